//! Voltages of analog lines, and the ways between two of them.

use std::ops::ControlFlow;

use super::plan::Plan;
use super::{Scene, Take};
use crate::capture::{AnalogTrace, Capture};
use crate::event::{ConditionProgram, Meaning, Program, Scope, Stretch};
use crate::known::{Instants, Rule};
use crate::limit::bound::{Programs, Ramp};
use crate::limit::judge::Verdict;
use crate::limit::kind::{Mark, Which};
use crate::limit::occurrence::{Doubt, Measured, Occurrence, Visited};
use crate::limit::required::Required;
use crate::line::{AnalogId, Crossing, Side};
use crate::measure::{VoltageLevels, voltage_levels};
use crate::quantity::{Bounds, Rational, Voltage};
use crate::time::Tick;

impl Ramp {
    /// What its ends are read from, whatever its levels.
    pub(super) fn instants(&self) -> Instants {
        Instants::edges(Crossing::new(self.line, Voltage::ZERO, Side::Both))
    }

    /// The two crossings that it is, in their order in time; `None` where the line has no swing.
    pub(super) fn crossings(
        &self,
        capture: &Capture,
        condition: Option<&ConditionProgram>,
    ) -> Option<Programs> {
        let levels = || voltage_levels(capture.analog(self.line), capture.range()).filter(|l| l.high > l.low);
        let voltage = |mark: Mark| match mark {
            Mark::Voltage(voltage) => Some(voltage),
            Mark::Percent(percent) => share_of(&levels()?, percent.to_fraction()),
        };
        let (low, high) = (voltage(self.low)?, voltage(self.high)?);
        let (from, to, verb) = if self.rises { (low, high, "rises") } else { (high, low, "falls") };
        let mut scope = Scope::new();
        scope.define("line", Meaning::Analog(self.line));
        // Levels that were taken from the record itself are as far off as its samples.
        let stated = [self.low, self.high].iter().all(|mark| matches!(mark, Mark::Voltage(_)));
        let error = if stated { Voltage::ZERO } else { capture.analog(self.line).scale().error() };
        let through = |voltage| {
            let text = format!("line {verb} through {voltage}");
            Some(Program::compile(&text, &scope).ok()?.with_level_error(error))
        };
        let from = through(from)?;
        let from = condition.map_or(from.clone(), |condition| from.guarded(condition));
        Some(Programs::Pair { from, to: through(to)? })
    }
}

/// The voltage at a share of the swing, to the microvolt.
fn share_of(levels: &VoltageLevels, share: Rational) -> Option<Voltage> {
    let above = levels.amplitude().to_rational().checked_mul(share)?;
    let micro = levels.low.to_rational().checked_add(above)?.checked_mul(Rational::from(1_000_000))?;
    Rational::new(micro.round(), 1_000_000).map(Voltage::from_rational)
}

impl Scene<'_> {
    pub(super) fn voltage<S: Take>(
        &self,
        line: AnalogId,
        which: Which,
        condition: Option<&ConditionProgram>,
        required: Required,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let trace = self.capture.analog(line);
        if which == Which::All {
            let all = Stretch {
                start: Tick(0),
                end: Tick(self.capture.len()),
                begins: true,
                ends: true,
                doubtful: false,
                recorded: true,
            };
            return match condition {
                None => self.extremes(trace, all, required, sink),
                Some(condition) => condition
                    .stretches(self.capture, self.capture.range())
                    .try_for_each(|stretch| self.extremes(trace, stretch, required, sink)),
            };
        }
        let levels = voltage_levels(trace, self.capture.range()).filter(|levels| levels.high > levels.low);
        let Some(middle) = levels.and_then(|levels| share_of(&levels, Rational::new(1, 2)?)) else {
            return ControlFlow::Continue(());
        };
        let mut scope = Scope::new();
        scope.define("line", Meaning::Analog(line));
        let side = if which == Which::High { ">" } else { "<" };
        let Ok(pulse) = ConditionProgram::compile(&format!("line {side} {middle}"), &scope) else {
            return ControlFlow::Continue(());
        };
        for stretch in pulse.stretches(self.capture, self.capture.range()) {
            let counts = self.counts(condition, stretch);
            if counts == Some(false) {
                continue;
            }
            match settled_level(trace, stretch).filter(|_| stretch.begins && stretch.ends) {
                Some(voltage) => {
                    let ends = (voltage, voltage);
                    let unknown = counts.is_none().then_some(Doubt::Unknown);
                    self.each(sink, |plan| {
                        // Which stretches there are is open, too, where pulses may hide.
                        let doubt = unknown.or(plan.hides.anchor.then_some(Doubt::Hidden));
                        self.told_voltage(plan, trace, stretch, ends, doubt, required)
                    })?;
                }
                None => self.each(sink, |_| Visited::Unpaired(stretch.start))?,
            }
        }
        ControlFlow::Continue(())
    }

    /// The lowest and the highest sample of a stretch.
    fn extremes<S: Take>(
        &self,
        trace: &AnalogTrace,
        stretch: Stretch,
        required: Required,
        sink: &mut S,
    ) -> ControlFlow<()> {
        let Some(extremes) = trace.extremes(stretch.start..stretch.end) else {
            return self.each(sink, |_| Visited::Unpaired(stretch.start));
        };
        let scale = trace.scale();
        let ends = (scale.voltage(extremes.least), scale.voltage(extremes.most));
        let doubt = (stretch.doubtful && self.terms.rule == Rule::Proven).then_some(Doubt::Order);
        self.each(sink, |plan| self.told_voltage(plan, trace, stretch, ends, doubt, required))
    }

    fn told_voltage(
        &self,
        plan: &Plan,
        trace: &AnalogTrace,
        stretch: Stretch,
        (least, most): (Voltage, Voltage),
        doubt: Option<Doubt>,
        required: Required,
    ) -> Visited {
        let error = match self.terms.rule {
            Rule::Proven => trace.scale().error(),
            Rule::Measured => Voltage::ZERO,
        };
        let decide = |voltage: Voltage| {
            let known = |sign: i64| error.to_rational().checked_mul(Rational::from(sign));
            let at = |sign| voltage.to_rational().checked_add(known(sign)?);
            let bounds = at(-1).zip(at(1));
            bounds.map_or(Verdict::Inconclusive, |(lo, hi)| {
                required.decide(Bounds { lo, hi: Some(hi), lo_exclusive: false, hi_exclusive: false })
            })
        };
        // Each end is judged by both limits; the one that is nearer to a limit, or farther beyond, is told.
        let margin = |voltage: Voltage| required.margin(voltage.to_rational()).unwrap_or(Rational::ZERO);
        let shown = if margin(most) < margin(least) { most } else { least };
        let mut verdict = match (decide(least), decide(most)) {
            (Verdict::Pass, Verdict::Pass) => Verdict::Pass,
            (Verdict::Fail, _) | (_, Verdict::Fail) => Verdict::Fail,
            _ => Verdict::Inconclusive,
        };
        let mut told = (verdict == Verdict::Inconclusive).then_some(Doubt::Resolution);
        if doubt.is_some() {
            (verdict, told) = (Verdict::Inconclusive, doubt);
        }
        // Between its samples the line may have been at any voltage; one that was seen beyond was there.
        if plan.hides.anchor && verdict == Verdict::Pass {
            (verdict, told) = (Verdict::Inconclusive, Some(Doubt::Hidden));
        }
        let measured = Measured::Voltage { voltage: shown, error };
        let (start, end) = (stretch.start, stretch.end);
        let certain = !plan.hides.condition;
        if !certain && verdict == Verdict::Fail {
            (verdict, told) = (Verdict::Inconclusive, Some(Doubt::Hidden));
        }
        Visited::Occurrence(Occurrence { start, end, measured, verdict, doubt: told, certain })
    }
}

/// The most frequent voltage of a stretch (IEEE 181-2011, 5.2).
fn settled_level(trace: &AnalogTrace, stretch: Stretch) -> Option<Voltage> {
    let codes = trace.codes_in(stretch.start..stretch.end);
    let mut codes: Vec<(i16, u64)> = codes.map(|(_, code, weight)| (code, weight)).collect();
    codes.sort_unstable();
    let weight = |run: &&[(i16, u64)]| run.iter().map(|(_, weight)| weight).sum::<u64>();
    let longest = codes.chunk_by(|a, b| a.0 == b.0).max_by_key(weight)?;
    Some(trace.scale().voltage(longest[0].0))
}
