//! The instrument that a bench file describes, with one bank of equal inputs.

use deep_tap_core::instrument::{Bank, Capabilities, Mode, OnBoardTrigger};
use deep_tap_core::line::VoltageRange;
use deep_tap_core::quantity::{Rate, SampleCount, Voltage};
use deep_tap_core::reader::Section;

/// Samples that are streamed at the most.
const LONGEST_STREAM: u64 = 1 << 40;
/// Samples on board when nothing is said.
const USUAL_MEMORY: u64 = 1 << 20;

/// Its name and what it can do.
pub(super) fn read_instrument(section: &Section<'_>) -> Option<(String, Capabilities)> {
    let name = section.required("name", "name = \"MY-8\"");
    section.must_have("inputs", "inputs = 8");
    let inputs = section.within("inputs", 1..=u32::MAX);
    section.must_have("thresholds", "thresholds = \"0 V .. 3 V\"");
    let thresholds = section.parsed::<VoltageRange>("thresholds");
    let step = section.parsed::<Voltage>("threshold-step");
    section.must_have("highest", "highest = \"5 V\"");
    let highest = section.parsed::<Voltage>("highest");
    let rates = |key| -> Vec<Rate> {
        section.parsed_list(key).into_iter().flatten().map(|rate| rate.value).collect()
    };
    let (on_board, streaming) = (rates("rates"), rates("stream-rates"));
    let memory = section.parsed::<SampleCount>("memory").map_or(USUAL_MEMORY, |memory| memory.value.0);
    let at_once = section.within("inputs-at-once", 1..=u32::MAX);
    let levels = section.within("trigger-levels", 1..=u32::MAX);
    section.finish();

    let inputs = inputs?.value;
    let at_once = at_once.map_or(inputs, |at_once| at_once.value);
    let mut modes = Vec::new();
    if !on_board.is_empty() {
        modes.push(Mode::on_board(at_once, on_board, memory));
    }
    if !streaming.is_empty() {
        modes.push(Mode::streaming(at_once, streaming, LONGEST_STREAM));
    }
    let mut bank = Bank::new("A", inputs);
    bank.thresholds = thresholds?.value;
    bank.step = step.map_or(Voltage::ZERO, |step| step.value);
    bank.per_input = true;
    bank.highest = highest?.value;
    let mut able = Capabilities::new([bank], modes);
    able.trigger = levels.map_or_else(OnBoardTrigger::default, |levels| OnBoardTrigger::edge(levels.value));
    if let Err(error) = able.check() {
        section.complain(
            format!("this instrument contradicts itself: {}", error.message()),
            "give it rates that rise, memory, and no more inputs at once than it has",
        );
    }
    Some((name?.value, able))
}
