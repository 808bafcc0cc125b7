//! Waveforms, compared as text pictures.

use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::draw::{Marker, Picture, RowSource, View};
use deep_tap::line::{Bus, BusId, LineId};
use deep_tap::time::{Resolution, Tick};

use crate::support::capture;

fn picture(start: u64, end: u64, columns: usize) -> String {
    // One line that toggles rarely, one that is busy, one that never moves.
    let busy: Vec<u64> = (40..80).collect();
    let record = capture(
        "100 MS/s",
        Resolution::SAMPLED,
        200,
        &[("SLOW", &[10, 30, 90]), ("BUSY", &busy), ("N", &[])],
    );
    let bus = Bus::new("PAIR", vec![LineId(0), LineId(2)]).unwrap();
    let record = record.into_builder().bus(bus).build().unwrap();
    let rows = [0, 1, 2].map(|l| RowSource::Line(LineId(l)));
    let rows: Vec<RowSource<'_>> = rows.into_iter().chain([RowSource::Bus(BusId(0))]).collect();
    let markers = [Marker { tick: Tick(30), name: "here".into() }];
    Picture::new(&record, &rows, View { start: Tick(start), end: Tick(end), columns }, &markers)
        .unwrap()
        .to_string()
}

#[test]
fn steps_values_and_busy_stretches() {
    let wanted = [
        "     0 ns to 1.00 us, 20.0 ns per column",
        "     ┌0 ns                    ┌500 ns",
        "                    ▼here",
        "          ┌─────────┐                             ┌────",
        "SLOW ─────┘         └─────────────────────────────┘",
        "",
        "BUSY ────────────────────░░░░░░░░░░░░░░░░░░░░──────────",
        "",
        "N    ──────────────────────────────────────────────────",
        "",
        "PAIR ═0x0═╳═══0x2═══╳═════════════0x0═════════════╳0x2═",
    ];
    assert_eq!(picture(0, 100, 50).lines().collect::<Vec<_>>(), wanted);
}

#[test]
fn far_in_an_edge_takes_one_column_and_a_tick_takes_several() {
    let drawn = picture(28, 33, 25);
    let slow = drawn.lines().find(|l| l.starts_with("SLOW")).unwrap();
    assert_eq!(slow, "SLOW           └──────────────");
    assert!(drawn.lines().any(|l| l.trim() == "▼here"), "{drawn}");
}

#[test]
fn pictures_of_nothing_are_refused() {
    let record = capture("100 MS/s", Resolution::SAMPLED, 200, &[("A", &[10])]);
    for (start, end, columns) in [(5, 5, 10), (7, 3, 10), (0, 201, 10), (0, 100, 0), (0, 100, 1 << 20)] {
        let view = View { start: Tick(start), end: Tick(end), columns };
        let error = Picture::new(&record, &[RowSource::Line(LineId(0))], view, &[]).unwrap_err();
        assert!(error.help().is_some(), "{error}");
    }
}

#[test]
fn frames_and_fields_stand_under_each_other_and_crowd_when_there_are_many() {
    // 'A' and 'B' at 10 ticks a bit; the second one without its stop bit.
    let ticks = [100, 110, 120, 170, 180, 190, 300, 320, 330, 370, 380, 410];
    let toggles: Vec<u64> = [1].into_iter().chain(ticks).collect();
    let record = capture("1 MS/s", Resolution::EXACT, 500, &[("TX", &toggles)]);
    let protocol = Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap()));
    let bus = SerialBus { name: "log".into(), protocol, lines: vec![LineId(0)] };
    let drawn = |start, end, columns| {
        let view = View { start: Tick(start), end: Tick(end), columns };
        Picture::new(&record, &[RowSource::Frames(&bus)], view, &[]).unwrap()
    };
    let text = drawn(80, 430, 70).to_string();
    let rows: Vec<&str> = text.lines().skip(2).collect();
    let wanted = [
        "log        ├───────byte───────┤                    ├──byte !framing───┤",
        "  data       ├───0x41 'A'───┤                        ├───0x42 'B'───┤",
    ];
    assert_eq!(rows, wanted, "{text}");
    // A view that begins within a frame shows it; far out, frames share a column.
    assert_eq!(drawn(150, 250, 20).rows[0].spans[0].column, 0);
    let far = drawn(0, 500, 3);
    assert_eq!((far.rows[0].spans.len(), far.rows[0].spans[1].faulty), (2, true), "{far:?}");
    let one = drawn(0, 500, 1);
    assert_eq!(
        (one.rows[0].spans.len(), one.rows[0].spans[0].texts.len(), one.rows[0].spans[0].faulty),
        (1, 0, true)
    );
}
