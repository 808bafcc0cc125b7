//! Waveforms, compared as text pictures.

use deep_tap::bench::{Random, connect};
use deep_tap::capture::{Capture, HeldBuilder, Trace};
use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::draw::{
    Cell, Dimension, Drawing, Ground, Histogram, Marker, Picture, RowSource, Scale, Sheet, View,
};
use deep_tap::limit::Required;
use deep_tap::line::{AnalogId, AnalogLine, AnalogScale, Bus, BusId, Level, LineId};
use deep_tap::measure::Distribution;
use deep_tap::quantity::Time;
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::{Resolution, Tick, TimeBase};

use crate::support::{capture, record, root};

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
    let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
    let drawn = |start, end, columns| {
        let view = View { start: Tick(start), end: Tick(end), columns };
        Picture::new(&record, &[RowSource::Frames(&bus)], view, &[]).unwrap()
    };
    let text = drawn(80, 430, 70).to_string();
    let rows: Vec<&str> = text.lines().skip(2).collect();
    let wanted = [
        "log             ├───────byte───────┤                    ├──byte !framing───┤",
        "  transfers     ├────────────────bytes?! data 41 42 \"AB\"─────────────────┤",
        "  data            ├───0x41 'A'───┤                        ├───0x42 'B'───┤",
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

/// A text of a picture: what it says, and the box that it takes.
#[derive(Debug)]
struct Placed {
    text: String,
    from: (f64, f64),
    to: (f64, f64),
}

/// The texts of an SVG, in a font whose characters are 0.602 of its size wide.
fn texts(svg: &str) -> Vec<Placed> {
    let value = |tag: &str, name: &str| -> Option<String> {
        let rest = tag.split(&format!(" {name}=\"")).nth(1)?;
        Some(rest.split('"').next()?.to_string())
    };
    let number = |tag: &str, name: &str| value(tag, name).unwrap().parse::<f64>().unwrap();
    let place = |element: &str| {
        let (tag, rest) = element.split_once('>').unwrap();
        let text = rest.split("</text>").next().unwrap().trim();
        let text =
            text.replace("&lt;", "<").replace("&gt;", ">").replace("&apos;", "'").replace("&amp;", "&");
        let (x, y, size) = (number(tag, "x"), number(tag, "y"), number(tag, "font-size"));
        let width = text.chars().count() as f64 * size * 0.602;
        let left = match value(tag, "text-anchor").as_deref() {
            Some("middle") => x - width / 2.0,
            Some("end") => x - width,
            _ => x,
        };
        // From the top of a capital letter to its foot.
        Placed { text, from: (left, y - 0.72 * size), to: (left + width, y) }
    };
    svg.split("<text").skip(1).map(place).collect()
}

#[test]
fn no_text_of_a_picture_touches_another_or_leaves_it() {
    let mut random = Random::new(77);
    let mut seen = 0;
    for round in 0..150u64 {
        let len = 20_000;
        let lines: Vec<(String, Vec<u64>)> = (0..1 + round % 20)
            .map(|n| {
                let power = 1 + random.below(12);
                let step = 1 + random.below(1 << power);
                let mut at = 0;
                let edges = std::iter::from_fn(|| {
                    at += 1 + random.below(step);
                    (at < len).then_some(at)
                });
                (format!("LINE_{n}"), edges.collect())
            })
            .collect();
        let lines: Vec<(&str, &[u64])> = lines.iter().map(|(n, e)| (n.as_str(), e.as_slice())).collect();
        let record = capture("100 MS/s", Resolution::SAMPLED, len, &lines);
        let bus = Bus::new("BUS", (0..lines.len()).map(LineId).collect()).unwrap();
        let record = record.into_builder().bus(bus).build().unwrap();
        let start = random.below(len - 10);
        let end = start + 1 + random.below(len - start - 1);
        let mut tick = || Tick(start + random.below(end - start));
        let markers: Vec<Marker> = (0..round % 9)
            .map(|n| Marker { tick: tick(), name: "marker ".repeat(1 + n as usize % 3) + "x" })
            .collect();
        let mut markers = markers;
        markers.sort_by_key(|marker| marker.tick);
        let dimensions: Vec<Dimension> = (0..round % 7)
            .map(|n| {
                let (a, b) = (tick(), tick());
                let text = format!("t{n} 12 ns ± 10 ns, required ≥ 18 ns: FAIL");
                Dimension {
                    from: a.min(b),
                    to: a.max(b),
                    text,
                    violated: n % 2 == 0,
                    signals: vec![LineId(0).into()],
                }
            })
            .collect();
        let width = 400 + (round as u32 * 37) % 1500;
        let title = "A title that may be longer than the picture is wide ".repeat(1 + round as usize % 4);
        let sheet = Sheet {
            start: Tick(start),
            end: Tick(end),
            width,
            title,
            markers: &markers,
            dimensions: &dimensions,
            tall: [0.5, 1.0, 2.5][round as usize % 3],
            ..Sheet::default()
        };
        let mut rows: Vec<RowSource> = (0..lines.len()).map(|n| RowSource::Line(LineId(n))).collect();
        rows.push(RowSource::Bus(BusId(0)));
        let drawing = sheet.draw(&record, &rows).unwrap();
        seen += apart(&drawing, &format!("round {round}"));
    }
    assert!(seen > 3000, "{seen}");
    for round in 0..120 {
        let values: Distribution = (0..1 + round).map(|_| random.between(0, 20 + round * round)).collect();
        let ends = [random.between(0, 200 + round * round), random.between(0, 200 + round * round)];
        let end = |ticks: i64| Some(Time::from_ps(ticks * 1000));
        let required = Required::times(end(ends[0].min(ends[1])), end(ends[0].max(ends[1])));
        let histogram =
            Histogram::of_times(&values.histogram(40), Time::from_ps(1000)).with_required(required);
        apart(&histogram.draw("values", 400 + round as u32), &format!("histogram {round}"));
    }
}

/// No text of a drawing touches another, or leaves it; how many there are.
fn apart(drawing: &Drawing, what: &str) -> usize {
    let all = texts(&drawing.svg(Ground::Light, 1.0));
    let (right, bottom) = drawing.size();
    for (place, one) in all.iter().enumerate() {
        let inside = one.from.0 >= 0.0 && one.to.0 <= f64::from(right) && one.to.1 <= f64::from(bottom);
        assert!(inside && one.from.1 >= 0.0, "{what}: {} leaves the picture: {one:?}", one.text);
        for other in &all[place + 1..] {
            let apart = one.to.0 <= other.from.0
                || other.to.0 <= one.from.0
                || one.to.1 <= other.from.1
                || other.to.1 <= one.from.1;
            assert!(apart, "{what}: {one:?} and {other:?}");
        }
    }
    all.len()
}

/// An acknowledge and its absence are told apart where a bit has a column, and a byte keeps its value beside it.
#[test]
fn an_acknowledge_that_is_missing_is_seen() {
    let setup = Setup::from_file(&root().join("setups/buses.toml")).unwrap();
    let mut instrument = connect("bench:tide-gauge", root().as_path()).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    let bus = setup.serial.iter().find(|bus| bus.name() == "rtc").unwrap();
    let zero = capture.base().zero().0;
    let view = View { start: Tick(zero - 3000), end: Tick(zero + 20_000), columns: 107 };
    let picture = Picture::new(&capture, &[RowSource::Frames(bus)], view, &[]).unwrap();
    let text = picture.to_string();
    let fields = text.lines().find(|line| line.trim_start().starts_with("fields")).unwrap();
    assert_eq!(fields.split_whitespace().nth(1), Some("├0x51┤a├02─┤a├51─┤a├00─┤a├00─┤a├06─┤N"), "{text}");
    assert!(fields.ends_with("├0x51┤N"), "the clock chip is busy: {text}");
}

/// What a window cuts has no end there; what lies inside of it has both.
#[test]
fn a_frame_that_goes_on_has_no_end_at_the_window() {
    let setup = Setup::from_file(&root().join("setups/buses.toml")).unwrap();
    let mut instrument = connect("bench:tide-gauge", root().as_path()).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    let bus = setup.serial.iter().find(|bus| bus.name() == "rtc").unwrap();
    let zero = capture.base().zero().0;
    let frames = |from: u64, to: u64| {
        let view = View { start: Tick(from), end: Tick(to), columns: 60 };
        Picture::new(&capture, &[RowSource::Frames(bus)], view, &[]).unwrap().rows[0].spans.clone()
    };
    let whole = frames(zero - 4000, zero + 5400);
    assert!(whole.iter().all(|span| span.beyond == (false, false) && !span.faulty), "{whole:?}");
    let cut = frames(zero - 1000, zero + 1000);
    assert!(cut[0].beyond.0 && cut[cut.len() - 1].beyond.1, "{cut:?}");
    assert!(cut.iter().all(|span| !span.faulty), "no fault of its own: {cut:?}");
}

/// A group of lines as a curve, pulses of a single sample, and thresholds: each is where its values say.
#[test]
fn curves_thresholds_and_single_samples_are_drawn_where_they_are() {
    let len = 400;
    let line = |edges: &[u64]| Trace::toggling(Level::Low, edges.iter().copied(), len).unwrap();
    let scale = AnalogScale::new("0 V".parse().unwrap(), "10 mV".parse().unwrap(), "0 V".parse().unwrap());
    let mut ramp = HeldBuilder::new(Some(0));
    for step in 1..=33u64 {
        ramp.push(Tick(step * 10), Some(step as i16 * 10)).unwrap();
    }
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let capture = Capture::builder(base, len)
        .resolution(Resolution::SAMPLED)
        .line("B1", line(&[200]))
        .line("B0", line(&[100, 200, 300, 301]))
        .bus(Bus::new("B", vec![LineId(0), LineId(1)]).unwrap())
        .analog(AnalogLine::named("RAMP"), ramp.finish(scale.unwrap(), len))
        .build()
        .unwrap();
    let view = View { start: Tick(0), end: Tick(len), columns: 40 };
    let rows = [RowSource::Curve(BusId(0)), RowSource::Line(LineId(1)), RowSource::Analog(AnalogId(0))];
    let picture = Picture::new(&capture, &rows, view, &[]).unwrap();
    let curve = &picture.rows[0];
    assert_eq!(curve.scale, Some(Scale::Values(0, 3)));
    let at = |column: usize| curve.cells[column].clone();
    assert_eq!((at(5), at(15), at(25)), (Cell::Band(0, 0), Cell::Band(333, 333), Cell::Band(666, 666)));
    // From 2 to 3 and back within one column.
    assert_eq!(at(30), Cell::Band(666, 1000));
    assert_eq!(picture.rows[1].narrow, [30]);
    let volts = |text: &str| text.parse().unwrap();
    let levels = [(AnalogId(0), volts("0.8 V")), (AnalogId(0), volts("9 V"))];
    let sheet = Sheet { end: Tick(len), levels: &levels, ..Sheet::default() };
    let svg = sheet.draw(&capture, &rows).unwrap().svg(Ground::Light, 2.0);
    assert!(svg.contains(">800 mV<") || svg.contains("\n800 mV\n"), "a threshold within its scale is drawn");
    assert!(!svg.contains("9 V"), "one beyond it is not");
    assert!(svg.contains("width=\"2560\"") && svg.contains("viewBox=\"0 0 1280 "), "twice as large");
}

/// All labels of an axis have one prefix, and lie at round values.
#[test]
fn an_axis_keeps_one_unit() {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap().with_zero(Tick(200_000));
    let idle = Trace::toggling(Level::Low, [5], 400_000).unwrap();
    let capture = Capture::builder(base, 400_000).line("A", idle).build().unwrap();
    for (start, end) in [(50_000, 290_000), (0, 400_000), (199_000, 201_234), (110_000, 199_990)] {
        let view = View { start: Tick(start), end: Tick(end), columns: 120 };
        let picture = Picture::new(&capture, &[RowSource::Line(LineId(0))], view, &[]).unwrap();
        let units: Vec<&str> = picture.axis.iter().filter_map(|l| l.text.rsplit(' ').next()).collect();
        assert!(units.len() > 2 && units.iter().all(|unit| *unit == units[0]), "{:?}", picture.axis);
    }
}
