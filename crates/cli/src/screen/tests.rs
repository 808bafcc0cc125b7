//! Lines on screens of any size.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Color;

use super::terminal::paint;

fn shown(count: usize, mut top: usize, height: u16) -> Vec<String> {
    let lines: Vec<(String, Option<Color>)> =
        (0..count).map(|number| (format!("line {number}"), None)).collect();
    let area = Rect::new(0, 0, 60, height);
    let mut buffer = Buffer::empty(area);
    paint(&lines, &mut top, area, &mut buffer);
    let cells: Vec<&str> = buffer.content().iter().map(ratatui::buffer::Cell::symbol).collect();
    cells.chunks(60).map(|line| line.concat().trim_end().to_string()).collect()
}

#[test]
fn as_many_lines_as_fit_and_a_way_to_the_others() {
    assert_eq!(shown(2, 0, 5), ["line 0", "line 1", "", "", " q ends"]);
    assert_eq!(shown(9, 0, 4), ["line 0", "line 1", "line 2", " q ends   up down: 0 lines above, 6 below"]);
    // Not beyond the end, in any window.
    assert_eq!(shown(9, 99, 4), ["line 6", "line 7", "line 8", " q ends   up down: 6 lines above, 0 below"]);
    assert_eq!(shown(9, 3, 1), [" q ends   up down: 3 lines above, 6 below"]);
    assert!(shown(9, 3, 0).is_empty());
}
