//! A screen of its own in the terminal.

use std::io;
use std::time::{Duration, Instant};

use deep_tap::printable;
use ratatui::DefaultTerminal;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};

#[cfg(unix)]
use crate::gone::WhileThere;

const ACCENT: Color = Color::Rgb(44, 126, 196);
/// How a table colours what is bad.
const BAD: &str = "38;2;213;94;0";
/// How often it is renewed.
const RENEW: Duration = Duration::from_millis(400);

/// A text on a screen of its own, as much of it as fits, scrolled by keys. The terminal is as it was when this ends.
pub(crate) struct Screen {
    terminal: DefaultTerminal,
    /// Each with the colour in which it asks for attention.
    lines: Vec<(String, Option<Color>)>,
    top: usize,
    last: Option<Instant>,
    over: bool,
    #[cfg(unix)]
    _there: WhileThere,
}

impl Screen {
    pub(crate) fn open() -> io::Result<Screen> {
        Ok(Screen {
            terminal: ratatui::try_init()?,
            lines: Vec::new(),
            top: 0,
            last: None,
            over: false,
            #[cfg(unix)]
            _there: WhileThere::begin(),
        })
    }

    /// Whether it is time for another text.
    pub(crate) fn is_due(&self) -> bool {
        self.last.is_none_or(|last| last.elapsed() >= RENEW)
    }

    pub(crate) fn show(&mut self, text: &str) -> io::Result<()> {
        self.lines = text.lines().map(plain).collect();
        self.last = Some(Instant::now());
        self.draw()
    }

    /// Heeds the keys that wait; whether somebody wants to go.
    pub(crate) fn listen(&mut self) -> io::Result<bool> {
        while event::poll(Duration::ZERO)? {
            match event::read()? {
                Event::Key(key) if key.kind != KeyEventKind::Release => self.key(key.code, key.modifiers),
                Event::Resize(..) => {}
                _ => continue,
            }
            self.draw()?;
        }
        Ok(self.over)
    }

    /// Whether somebody wanted to go.
    pub(crate) fn is_over(&self) -> bool {
        self.over
    }

    fn key(&mut self, code: KeyCode, modifiers: KeyModifiers) {
        let most = self.lines.len().saturating_sub(1);
        match code {
            KeyCode::Char('c') if modifiers.contains(KeyModifiers::CONTROL) => self.over = true,
            KeyCode::Char('q') | KeyCode::Esc => self.over = true,
            KeyCode::Down => self.top = (self.top + 1).min(most),
            KeyCode::Up => self.top = self.top.saturating_sub(1),
            KeyCode::PageDown => self.top = (self.top + 10).min(most),
            KeyCode::PageUp => self.top = self.top.saturating_sub(10),
            KeyCode::Home => self.top = 0,
            KeyCode::End => self.top = most,
            _ => {}
        }
    }

    fn draw(&mut self) -> io::Result<()> {
        let (lines, top) = (&self.lines, &mut self.top);
        self.terminal.draw(|frame| paint(lines, top, frame.area(), frame.buffer_mut()))?;
        Ok(())
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        ratatui::restore();
    }
}

/// A line without the colours of tables, and the one by which it asks for attention.
fn plain(line: &str) -> (String, Option<Color>) {
    let mut parts = line.split('\u{1b}');
    let mut text = parts.next().unwrap_or_default().to_string();
    let colour = match line {
        _ if line.contains(BAD) => Some(Color::Rgb(213, 94, 0)),
        _ if line.contains('\u{1b}') => Some(ACCENT),
        _ => None,
    };
    parts.for_each(|part| text.push_str(part.split_once('m').map_or(part, |(_, rest)| rest)));
    (printable(&text).into_owned(), colour)
}

/// As many lines as fit, and below them how to see the others.
pub(super) fn paint(lines: &[(String, Option<Color>)], top: &mut usize, area: Rect, buffer: &mut Buffer) {
    let room = usize::from(area.height.saturating_sub(1));
    *top = (*top).min(lines.len().saturating_sub(room));
    for (line, (text, colour)) in (area.y..).zip(lines.iter().skip(*top).take(room)) {
        let mut style = colour.map_or(Style::new(), |colour| Style::new().fg(colour));
        if line == area.y && *top == 0 {
            style = style.add_modifier(Modifier::BOLD);
        }
        buffer.set_stringn(area.x, line, text, usize::from(area.width), style);
    }
    let below = lines.len().saturating_sub(*top + room);
    let more = match (*top, below) {
        (0, 0) => String::new(),
        (above, below) => format!("   up down: {above} lines above, {below} below"),
    };
    if area.height > 0 {
        let foot = format!(" q ends{more}");
        let (last, width) = (area.y + area.height - 1, usize::from(area.width));
        buffer.set_stringn(area.x, last, foot, width, Style::new().fg(ACCENT));
    }
}
