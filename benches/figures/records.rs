//! Tables, packed samples and arrays read, beside what it takes to look at their bytes.

use deep_tap::format::{Source, npy, packed, read};
use deep_tap::scan::{SampleWidth, Samples, fill};
use deep_tap::setup::Import;

use crate::data::random;
use crate::figure::{Case, Figures, on_cores, shortest};
use crate::stored::capture;

/// Rows of the table.
const ROWS: usize = 2_000_000;

/// Every sample of eight lines, with their times in microseconds.
fn table() -> String {
    let data = random(ROWS, Some(10));
    let mut text = String::from("time (us),D7,D6,D5,D4,D3,D2,D1,D0\n");
    for (row, sample) in data.chunks_exact(2).enumerate() {
        text.push_str(&format!("{}.{:02}", row / 100, row % 100));
        for bit in (0..8).rev() {
            text.push_str(if sample[0] >> bit & 1 == 1 { ",1" } else { ",0" });
        }
        text.push('\n');
    }
    text
}

pub(crate) fn measure(figures: &mut Figures) {
    let text = table();
    let rows = shortest(3, || {
        let mut reader = ::csv::ReaderBuilder::new().from_reader(text.as_bytes());
        let mut record = ::csv::ByteRecord::new();
        let mut cells = 0;
        while reader.read_byte_record(&mut record).expect("a table as it should be") {
            cells += record.len();
        }
        cells
    });
    let bytes = text.len() as f64;
    let source = Source::of_bytes(text.into_bytes(), "made.csv");
    let stated = Import::of_words(&["rows=samples"]).expect("words of a section");
    let reading = shortest(3, || read(&source, &stated, &mut |_, _| ()).expect("a table as it should be"));
    let case = Case { samples: ROWS, activity: "8 lines, every sample".to_string(), cores: 1 };
    let rate = (bytes / reading / 1e6, "MB/s");
    figures.against("reading a table", &case, rate, ("its rows alone", rows / reading, 0.5));

    let samples = 50_000_000;
    let data = random(samples, Some(32));
    let bits: Vec<u32> = (0..16).collect();
    let capture = capture(&data);
    let filling = on_cores(1, || shortest(3, || fill(Samples::new(SampleWidth::W16, &data), &bits)));
    let mut array = Vec::new();
    let as_bits = packed::PackedBits::of(&capture).expect("16 lines of two levels");
    npy::write(&capture, as_bits, &mut array).expect("memory takes it");
    for (name, bytes, words) in [
        (
            "reading packed samples",
            data,
            &["format=packed", "width=2", "byte-order=little", "rate=100 MS/s"][..],
        ),
        ("reading an array of samples", array, &["rate=100 MS/s"]),
    ] {
        let source = Source::of_bytes(bytes, "made");
        let stated = Import::of_words(words).expect("words of a section");
        let seconds =
            on_cores(1, || shortest(3, || read(&source, &stated, &mut |_, _| ()).expect("samples")));
        let case = Case { samples, activity: "a change per 32 samples".to_string(), cores: 1 };
        let rate = (samples as f64 / seconds / 1e6, "MS/s");
        figures.against(name, &case, rate, ("their fill alone", filling / seconds, 0.7));
    }
}
