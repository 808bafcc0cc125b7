//! The screen as cells.

use deep_tap::draw::{Picture, RowSource, View};
use deep_tap::printable;
use deep_tap::time::Tick;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::widgets::{Block, Clear, Paragraph, Widget};

use super::action::{KEYS, LIVE_KEYS};
use super::screen::{List, Pane, Screen, markers};
use crate::rows::RowKind;

/// Colours of our own: vermilion, blue, green of a palette that colour-blind eyes tell apart; never the only sign.
const BAD: Color = Color::Rgb(213, 94, 0);
const ACCENT: Color = Color::Rgb(44, 126, 196);
const FOUND: Color = Color::Rgb(0, 140, 105);

/// Columns of the values at the cursor.
const VALUE: usize = 10;

/// Draws everything.
pub(super) fn paint(screen: &mut Screen, frame: &mut Frame<'_>) {
    let area = frame.area();
    if area.width < 30 || area.height < 8 {
        frame.render_widget(
            Paragraph::new("the window is too small: 30 columns and 8 lines at the least"),
            area,
        );
        return;
    }
    let foot = 3;
    let waves = Rect { y: area.y + 1, height: area.height - 1 - foot, ..area };
    paint_head(screen, area, frame.buffer_mut());
    paint_waves(screen, waves, frame.buffer_mut());
    paint_foot(screen, Rect { y: area.y + area.height - foot, height: foot, ..area }, frame.buffer_mut());
    match &screen.pane {
        Some(Pane::Help) => paint_help(screen.live.is_some(), area, frame.buffer_mut()),
        Some(Pane::List(list)) => {
            // Where the cursor is stays to be seen below it.
            let above = Rect { height: area.height - foot, ..area };
            paint_list(list, above, frame.buffer_mut());
        }
        None => {}
    }
}

/// A text at a place, cut at the width.
fn put(buffer: &mut Buffer, (x, y): (u16, u16), width: u16, text: &str, style: Style) {
    buffer.set_stringn(x, y, printable(text), usize::from(width), style);
}

fn paint_head(screen: &Screen, area: Rect, buffer: &mut Buffer) {
    let style = Style::new().add_modifier(Modifier::REVERSED);
    buffer.set_style(Rect { height: 1, ..area }, style);
    let capture = &screen.viewer.job.capture;
    let title = screen.viewer.job.setup.as_ref().and_then(|setup| setup.title.as_deref());
    let title = title.map_or(String::new(), |title| format!("  {title}"));
    let live = screen.live.as_ref().map_or(String::new(), |live| format!("  [{}]", live.status));
    let rate =
        if capture.resolution().sampled { format!("  {}", capture.base().rate()) } else { String::new() };
    put(buffer, (area.x, area.y), area.width, &format!(" {}{title}{rate}{live}", screen.file), style);
}

/// The waveforms with their names and values, the axis above them.
fn paint_waves(screen: &mut Screen, area: Rect, buffer: &mut Buffer) {
    let names: Vec<String> = screen.viewer.rows.iter().map(|row| screen.viewer.name_of(*row)).collect();
    let longest = names.iter().map(|name| name.chars().count()).max().unwrap_or(0);
    let longest = longest.clamp(8, usize::from(area.width) / 3);
    let margin = (longest + 1 + VALUE + 1).min(usize::from(area.width) / 2);
    screen.margin = area.x + margin as u16;
    screen.viewer.columns = usize::from(area.width).saturating_sub(margin).max(1);
    let view = screen.viewer.view();
    let waves = Rect { x: screen.margin, width: area.width - margin as u16, ..area };
    let mut line = area.y;
    let axis = picture(screen, &[], view);
    let Some(axis) = axis else {
        put(buffer, (area.x, line), area.width, "nothing is recorded yet: ? lists the keys", Style::new());
        return;
    };
    put(buffer, (waves.x, line), waves.width, &axis.caption, Style::new().fg(ACCENT));
    line += 1;
    for label in &axis.axis {
        let room = waves.width.saturating_sub(label.column as u16);
        put(buffer, (waves.x + label.column as u16, line), room, &format!("┌{}", label.text), Style::new());
    }
    line += 1;
    paint_markers(screen, &axis, waves, line, buffer);
    line += 1;
    scroll(screen, area.height.saturating_sub(line - area.y));
    screen.rows_at.clear();
    let end = area.y + area.height;
    for (row, name) in names.iter().enumerate().skip(screen.top) {
        if line >= end {
            break;
        }
        let rest = Rect { y: line, height: end - line, ..area };
        line = paint_row(screen, row, (name, longest), rest, buffer);
    }
    paint_cursors(screen, view, Rect { y: area.y + 2, height: area.height - 2, ..waves }, buffer);
}

/// Both cursors, through all rows.
fn paint_cursors(screen: &Screen, view: View, waves: Rect, buffer: &mut Buffer) {
    let anchor = screen.viewer.anchor.map(|anchor| anchor.tick);
    let cursors = [
        (anchor, Style::new().bg(ACCENT).fg(Color::White)),
        (Some(screen.viewer.cursor.tick), Style::new().add_modifier(Modifier::REVERSED)),
    ];
    for (tick, style) in cursors {
        // One at the end of what is shown stands in its last column.
        let shown = tick.filter(|tick| (view.start..=view.end).contains(tick));
        let column = shown.and_then(|tick| view.column_of(tick.min(Tick(view.end.0.saturating_sub(1)))));
        if let Some(column) = column {
            buffer.set_style(Rect { x: waves.x + column as u16, width: 1, ..waves }, style);
        }
    }
}

/// Markers and hits on a line of their own.
fn paint_markers(screen: &Screen, axis: &Picture, waves: Rect, line: u16, buffer: &mut Buffer) {
    let view = screen.viewer.view();
    for tick in screen.viewer.hits_shown().into_iter().flatten() {
        if let Some(column) = view.column_of(tick) {
            put(buffer, (waves.x + column as u16, line), 1, "│", Style::new().fg(FOUND));
        }
    }
    for (column, name) in &axis.markers {
        let room = waves.width.saturating_sub(*column as u16);
        put(buffer, (waves.x + *column as u16, line), room, &format!("▼{name}"), Style::new().fg(ACCENT));
    }
}

/// How many lines a row takes.
fn height(screen: &Screen, row: usize) -> u16 {
    match screen.viewer.rows.get(row) {
        Some(RowKind::Analog(_) | RowKind::Curve(_)) => 4,
        Some(RowKind::Bus(_)) => 1,
        _ => 2,
    }
}

/// Scrolls so far that the selected row is seen.
fn scroll(screen: &mut Screen, room: u16) {
    let selected = screen.viewer.selected;
    screen.top = screen.top.min(selected);
    while screen.top < selected {
        let lines: u16 = (screen.top..=selected).map(|row| height(screen, row)).sum();
        if lines <= room {
            break;
        }
        screen.top += 1;
    }
}

/// A line of text of a row.
struct DrawnLine {
    /// Its name, or a voltage of its scale.
    front: String,
    text: String,
    /// Columns that have a fault: the first, and how many.
    faulty: Vec<(usize, usize)>,
}

/// Draws one row from the top of this area on; the line below it.
fn paint_row(
    screen: &mut Screen,
    row: usize,
    (name, longest): (&str, usize),
    area: Rect,
    buffer: &mut Buffer,
) -> u16 {
    let kind = screen.viewer.rows[row];
    let decoded = match kind {
        RowKind::Frames(place) => screen.viewer.decodes(place),
        _ => true,
    };
    let view = screen.viewer.view();
    let drawn = match kind.source(&screen.viewer.job).filter(|_| decoded) {
        Some(source) => picture(screen, &[source], view),
        None => None,
    };
    let lines: Vec<DrawnLine> = match drawn {
        Some(picture) => picture
            .rows
            .iter()
            .flat_map(|row| {
                let faulty = row.spans.iter().filter(|span| span.faulty);
                let faulty: Vec<(usize, usize)> = faulty.map(|span| (span.column, span.columns)).collect();
                // The values of a bus take one line.
                let skipped = usize::from(matches!(kind, RowKind::Bus(_)));
                let lines = picture.lines_of(row).into_iter().skip(skipped);
                lines.map(move |(front, text)| DrawnLine { front, text, faulty: faulty.clone() })
            })
            .collect(),
        None => {
            let text = "· · ·  too much to decode at once: zoom in (+)";
            vec![DrawnLine { front: name.to_string(), text: text.to_string(), faulty: Vec::new() }]
        }
    };
    let value = screen.viewer.value_at_cursor(kind);
    let value: String = value.chars().take(VALUE).collect();
    let chosen = row == screen.viewer.selected;
    let named = lines.iter().position(|line| line.front == name).unwrap_or(0);
    let mut at = area.y;
    for (number, DrawnLine { front, text, faulty }) in lines.iter().enumerate() {
        if at >= area.y + area.height {
            break;
        }
        let style = if chosen { Style::new().fg(ACCENT).add_modifier(Modifier::BOLD) } else { Style::new() };
        let width = longest as u16;
        put(buffer, (area.x, at), width, front, style);
        if number == named {
            if chosen {
                put(buffer, (area.x + width, at), 1, "▸", style);
            }
            put(buffer, (area.x + width + 1, at), VALUE as u16, &format!("{value:>VALUE$}"), Style::new());
        }
        let room = (area.x + area.width).saturating_sub(screen.margin);
        put(buffer, (screen.margin, at), room, text, Style::new());
        for (column, columns) in faulty {
            let width = (*columns as u16).min(room.saturating_sub(*column as u16));
            let place = Rect { x: screen.margin + *column as u16, y: at, width, height: 1 };
            buffer.set_style(place, Style::new().fg(BAD));
        }
        screen.rows_at.push((at, row));
        at += 1;
    }
    at
}

fn picture(screen: &Screen, sources: &[RowSource<'_>], view: View) -> Option<Picture> {
    Picture::new(&screen.viewer.job.capture, sources, view, &markers(&screen.viewer)).ok()
}

/// The cursor, what is under it, and what can be done.
fn paint_foot(screen: &Screen, area: Rect, buffer: &mut Buffer) {
    let viewer = &screen.viewer;
    let base = viewer.job.capture.base();
    let mut first = format!(" at {}", base.text_of(viewer.cursor.tick));
    if let Some(row) = viewer.selected_row() {
        let value = viewer.value_at_cursor(row);
        if !value.is_empty() {
            first.push_str(&format!("   {} {value}", viewer.name_of(row)));
        }
        if let RowKind::Frames(place) = row
            && let Some(frame) = viewer.frame_at_cursor(place)
        {
            first.push_str(&format!("   {frame}"));
        }
    }
    let rule = Style::new().add_modifier(Modifier::REVERSED);
    buffer.set_style(Rect { height: 1, ..area }, rule);
    put(buffer, (area.x, area.y), area.width, &first, rule);
    let second =
        viewer.difference().map_or(String::new(), |between| format!(" between the cursors: {between}"));
    put(buffer, (area.x, area.y + 1), area.width, &second, Style::new().fg(ACCENT));
    let keys = match screen.live.is_some() {
        true => " ? help   a arm  A again and again  S stop  T trigger  R rate  k keep   q quit",
        false => " ? help   + - zoom  , . edge  / look for  v verdicts  f frames  g go to  q quit",
    };
    let (third, style) = match (&screen.typed, &viewer.message) {
        (Some((asked, text)), _) => {
            (format!(" {}: {text}▏", asked.prompt()), Style::new().add_modifier(Modifier::BOLD))
        }
        (None, Some(message)) => (format!(" {message}"), Style::new().fg(BAD)),
        (None, None) => (keys.to_string(), Style::new()),
    };
    put(buffer, (area.x, area.y + 2), area.width, &third, style);
}

/// A box in the middle of the screen; what is inside of it.
fn boxed(title: &str, (width, height): (u16, u16), area: Rect, buffer: &mut Buffer) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    let place =
        Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    Clear.render(place, buffer);
    let block = Block::bordered().title(format!(" {} ", printable(title)));
    let inner = block.inner(place);
    block.render(place, buffer);
    inner
}

fn paint_help(live: bool, area: Rect, buffer: &mut Buffer) {
    let keys: Vec<&(&str, &str)> = KEYS.iter().chain(LIVE_KEYS.iter().filter(|_| live)).collect();
    let inner = boxed("keys", (76, keys.len() as u16 + 2), area, buffer);
    for (line, (key, what)) in (inner.y..inner.y + inner.height).zip(keys) {
        put(buffer, (inner.x + 1, line), 12, key, Style::new().fg(ACCENT).add_modifier(Modifier::BOLD));
        put(buffer, (inner.x + 14, line), inner.width.saturating_sub(14), what, Style::new());
    }
}

/// A list at the bottom of the screen, so that what is jumped to is seen above it.
fn paint_list(list: &List, area: Rect, buffer: &mut Buffer) {
    let height = (list.rows.len() as u16).saturating_add(3).min(area.height / 2).max(5);
    let place = Rect { y: area.y + area.height - height, height, ..area };
    let inner = boxed(&list.title, (area.width, height), place, buffer);
    put(buffer, (inner.x, inner.y), inner.width, &list.head, Style::new().fg(ACCENT));
    let room = usize::from(inner.height.saturating_sub(1));
    let top = list.chosen.saturating_sub(room.saturating_sub(1));
    for (line, (number, (text, _))) in
        (inner.y + 1..inner.y + inner.height).zip(list.rows.iter().enumerate().skip(top))
    {
        let mut style = if text.contains("FAIL") { Style::new().fg(BAD) } else { Style::new() };
        if number == list.chosen {
            style = style.add_modifier(Modifier::REVERSED);
        }
        put(buffer, (inner.x, line), inner.width, text, style);
    }
}
