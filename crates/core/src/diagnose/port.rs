//! The test port.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::sides;

impl Patient<'_> {
    pub(super) fn port(&mut self) {
        let sides = sides(self.capture, self.line(0), self.line(1), self.range.clone(), |_| true);
        if sides.after_rising() == Some(true) {
            let what =
                format!("{} changes with the rising edge of {}, which takes it", self.name(1), self.name(0));
            let remedy = "check that TCK and TMS are not exchanged or inverted, and record faster";
            self.find("edge", Sureness::Likely, what, remedy);
        }
        let Some(stated) = self.look(self.bus.protocol()) else { return };
        // Resets and data scans are frames, too.
        if stated.count("length") * 5 > stated.frames {
            let what = "instruction scans have another length than the chain";
            self.find(
                "chain",
                Sureness::Likely,
                what,
                "check the lengths, and that no part is missing in 'chain'",
            );
        } else if stated.frames == 0 && self.edges(0) > 20 {
            let what = "the mode line never tells the state";
            self.find("start", Sureness::Likely, what, "record from a reset on, or check TMS");
        }
    }
}
