//! What keys and the mouse ask for.

use ratatui::crossterm::event::{
    Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};

/// What somebody wants.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Action {
    Quit,
    Back,
    Enter,
    Zoom {
        nearer: bool,
    },
    Whole,
    Pan {
        later: bool,
    },
    Step {
        columns: i64,
    },
    Select {
        down: bool,
    },
    Edge {
        later: bool,
    },
    Hit {
        later: bool,
    },
    Zero,
    First,
    Last,
    Anchor,
    Hide,
    ShowAll,
    MoveRow {
        down: bool,
    },
    OpenBus,
    Radix,
    Curve,
    Wrong {
        later: bool,
    },
    FindRow,
    Search,
    Place,
    Verdicts,
    Frames,
    Help,
    Save,
    /// A press of the mouse, by column and line of the screen.
    Press {
        column: u16,
        line: u16,
    },
    Redraw,
    Arm,
    Run,
    Stop,
    Trigger,
    Rate,
    Keep,
}

/// Every key with what it does, in the order of the help.
pub(super) const KEYS: &[(&str, &str)] = &[
    ("left right", "cursor by a column; with Shift by half a screen"),
    ("up down", "another row"),
    ("+ -", "nearer, farther; also the wheel of the mouse"),
    ("0 t", "the whole record, to the trigger"),
    ("Home End", "to the start, to the end"),
    (", .", "edge of the row before, after; of a bus its frames"),
    ("m", "a second cursor here: the time between, with bounds"),
    ("g", "go to a time, a mark or an event"),
    ("/", "look for an event; n N: the next hit, the one before"),
    ("v", "the verdicts; Enter: the worst occurrence"),
    ("f", "the frames of the bus; Enter: where it is"),
    ("w W", "the next violation of a limit, the one before"),
    ("l", "a line or a bus by a part of its name"),
    ("x X [ ]", "hide the row, show all, move the row up, down"),
    ("b r c", "open a group of lines, write it otherwise, as a curve"),
    ("s", "save the picture, and say the command that draws it"),
    ("q Esc", "close what is open, or quit"),
];

/// Those of an instrument that is being looked at.
pub(super) const LIVE_KEYS: &[(&str, &str)] = &[
    ("a A S", "arm once, again and again; stop waiting or recording"),
    ("T R", "another trigger, another rate"),
    ("k", "keep the capture"),
];

/// What an event of the terminal asks for.
pub(super) fn action_of(event: &Event) -> Option<Action> {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => of_key(*key),
        Event::Mouse(mouse) => of_mouse(*mouse),
        Event::Resize(..) => Some(Action::Redraw),
        _ => None,
    }
}

fn of_key(KeyEvent { code, modifiers, .. }: KeyEvent) -> Option<Action> {
    let shift = modifiers.contains(KeyModifiers::SHIFT);
    if modifiers.contains(KeyModifiers::CONTROL) {
        return (code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    Some(match code {
        KeyCode::Left if shift => Action::Pan { later: false },
        KeyCode::Right if shift => Action::Pan { later: true },
        KeyCode::PageUp => Action::Pan { later: false },
        KeyCode::PageDown => Action::Pan { later: true },
        KeyCode::Left => Action::Step { columns: -1 },
        KeyCode::Right => Action::Step { columns: 1 },
        KeyCode::Up => Action::Select { down: false },
        KeyCode::Down => Action::Select { down: true },
        KeyCode::Home => Action::First,
        KeyCode::End => Action::Last,
        KeyCode::Enter => Action::Enter,
        KeyCode::Esc => Action::Back,
        KeyCode::Char(key) => return of_char(key),
        _ => return None,
    })
}

fn of_char(key: char) -> Option<Action> {
    Some(match key {
        'q' => Action::Quit,
        '+' | '=' => Action::Zoom { nearer: true },
        '-' | '_' => Action::Zoom { nearer: false },
        '0' => Action::Whole,
        't' => Action::Zero,
        ',' => Action::Edge { later: false },
        '.' => Action::Edge { later: true },
        'm' => Action::Anchor,
        'g' => Action::Place,
        '/' => Action::Search,
        'n' => Action::Hit { later: true },
        'N' => Action::Hit { later: false },
        'v' => Action::Verdicts,
        'f' => Action::Frames,
        'x' => Action::Hide,
        'X' => Action::ShowAll,
        '[' => Action::MoveRow { down: false },
        ']' => Action::MoveRow { down: true },
        'b' => Action::OpenBus,
        'r' => Action::Radix,
        'c' => Action::Curve,
        'w' => Action::Wrong { later: true },
        'W' => Action::Wrong { later: false },
        'l' => Action::FindRow,
        's' => Action::Save,
        '?' => Action::Help,
        'a' => Action::Arm,
        'A' => Action::Run,
        'S' => Action::Stop,
        'T' => Action::Trigger,
        'R' => Action::Rate,
        'k' => Action::Keep,
        _ => return None,
    })
}

fn of_mouse(mouse: MouseEvent) -> Option<Action> {
    Some(match mouse.kind {
        MouseEventKind::ScrollUp => Action::Zoom { nearer: true },
        MouseEventKind::ScrollDown => Action::Zoom { nearer: false },
        MouseEventKind::ScrollLeft => Action::Pan { later: false },
        MouseEventKind::ScrollRight => Action::Pan { later: true },
        MouseEventKind::Down(MouseButton::Left) | MouseEventKind::Drag(MouseButton::Left) => {
            Action::Press { column: mouse.column, line: mouse.row }
        }
        _ => return None,
    })
}
