//! From a setup and an instrument to a capture.

use std::ops::ControlFlow;

use crate::capture::{Capture, CaptureBuilder, Origin, Trace};
use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Program, StateProblem, StreamSearch};
use crate::instrument::{
    Acquisition, Begins, Capabilities, Configuration, ConfiguredAnalog, ConfiguredInput, Instrument,
    Progress, Stimulus,
};
use crate::limit::Watch;
use crate::line::{
    AnalogId, AnalogScale, Crossing, Gate, Input, Level, Line, LineId, Signal, Threshold, VoltageRange,
};
use crate::plan::{Length, Plan, Wanted, WantedAnalog, WantedBus, WantedInput, WantedSource, plan};
use crate::quantity::Time;
use crate::scan::Memory;
use crate::time::{Moment, Tick, TimeBase};
use crate::trigger::QualifiedEdge;

use super::changed::no_sampling;
use super::described::{Described, SpreadLine};
use super::sink::CaptureSink;
use super::wired::Wired;
use super::{LevelSource, Setup, Trigger};

/// The bits of a sample.
const MOST_LINES: usize = 64;

/// What may differ from the setup when recording.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RecordOptions {
    /// Records at once instead of waiting for the trigger.
    pub now: bool,
    /// When it is made, for the capture to tell.
    pub made: Option<Moment>,
}

impl Setup {
    /// Makes a plan for recording this setup with an instrument.
    ///
    /// # Errors
    /// When the setup does not say what to record, or everything that does not fit the instrument.
    pub fn plan(&self, instrument: &dyn Instrument, options: RecordOptions) -> Result<Plan> {
        plan(&self.wanted(instrument, options)?, &instrument.capabilities()).map_err(|problems| {
            Error::many(problems).unwrap_or_else(|| Error::new(ErrorKind::Instrument, "no plan"))
        })
    }

    /// What this setup asks of an instrument.
    ///
    /// # Errors
    /// When it does not say what to record.
    pub fn wanted(&self, instrument: &dyn Instrument, options: RecordOptions) -> Result<Wanted> {
        let sampling = self.sampling.ok_or_else(no_sampling)?;
        if self.lines.is_empty() && self.analog.is_empty() {
            return Err(Error::new(ErrorKind::Setup, "the setup names no lines to record")
                .with_help("add a section like: [[line]] with name = \"ADC_SCLK\" and input = 3"));
        }
        let program = self.trigger_program(options)?;
        if let Some(program) = &program {
            self.all_recorded(program)?;
        }
        if self.lines.len() > MOST_LINES {
            let count = self.lines.len();
            let message =
                format!("the setup names {count} lines, and a record of an instrument has {MOST_LINES}");
            return Err(Error::new(ErrorKind::Setup, message).with_help("take some of them out"));
        }
        let able = instrument.capabilities();
        Ok(Wanted {
            stream: sampling.length == Length::Endless
                || self.violation(options).is_some()
                || program.as_ref().is_some_and(|program| !self.waits_on_board(program, &able)),
            speed: sampling.speed,
            length: sampling.length,
            before: if options.now || self.trigger.is_none() {
                crate::plan::Before::Time(Time::ZERO)
            } else {
                sampling.before
            },
            about: program.as_ref().map(Program::about).or(self.violation(options).map(|_| Time::ZERO)),
            inputs: self.lines.iter().filter_map(wanted_input).collect(),
            buses: self.serial.iter().filter_map(|bus| self.wanted_bus(bus)).collect(),
            analog: self.analog.iter().map(wanted_analog).collect(),
            analog_rate: sampling.analog_rate,
            stimuli: self.stimuli_for(options),
        })
    }

    /// The event to wait for, unless there is none or it is not wanted.
    ///
    /// # Errors
    /// All problems of its expressions.
    pub fn trigger_program(&self, options: RecordOptions) -> Result<Option<Program>> {
        match self.trigger.as_ref().filter(|_| !options.now) {
            // That is found in a way of its own.
            None | Some(Trigger::Violation(_)) => Ok(None),
            Some(Trigger::Event(text)) => Program::compile(text, &self.scope()).map(Some),
            Some(Trigger::States(machine)) => {
                let wrong = |problems: Vec<StateProblem>| {
                    let errors = problems.into_iter().map(|p| p.error).collect();
                    Error::many(errors).unwrap_or_else(|| Error::new(ErrorKind::Event, "no state machine"))
                };
                Program::from_states(machine, &self.scope()).map(Some).map_err(wrong)
            }
        }
    }

    /// Records this setup with an instrument and keeps the record in memory. `progress` is told
    /// where it stands and may stop it.
    ///
    /// # Errors
    /// As [`plan`](Setup::plan); when the trigger does not come within the setup's time-out; and the
    /// instrument's own errors.
    pub fn record(
        &self,
        instrument: &mut dyn Instrument,
        options: RecordOptions,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Capture> {
        let mut memory = Memory::new(self.lines.len());
        let description = self.record_into(instrument, options, &mut memory, progress)?;
        let len = memory.position();
        let ids = 0..description.analog_lines().len();
        let scales: Vec<AnalogScale> = ids.map(|id| description.analog(AnalogId(id)).scale()).collect();
        let (traces, analog) = memory.finish(&scales);
        let builder = description.into_builder().length(len).replace_analog(analog);
        builder.replace_traces(traces.into_iter().map(Some).collect()).build()
    }

    /// Records this setup with an instrument and passes the samples on as they come; the answer is
    /// the description of the capture, without any ticks. `progress` is told where it stands and
    /// may stop it.
    ///
    /// # Errors
    /// As [`record`](Setup::record), and those of `sink`.
    pub fn record_into(
        &self,
        instrument: &mut dyn Instrument,
        options: RecordOptions,
        sink: &mut dyn CaptureSink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Capture> {
        let plan = self.plan(instrument, options)?;
        let base = TimeBase::from_rate(plan.rate)?;
        let program = self.trigger_program(options)?.map(|program| program.at(base)).transpose()?;
        let trigger = program.as_ref().and_then(|p| QualifiedEdge::from_program(p.program()).ok());
        let able = instrument.capabilities();
        let scale = |range: &VoltageRange| able.analog.as_ref().and_then(|bank| bank.scale(*range));
        let scales: Vec<AnalogScale> = plan.analog.iter().filter_map(scale).collect();
        let lines = self.analog.iter().map(|analog| analog.line.clone());
        let analog: Vec<_> = lines.zip(scales.iter().copied()).collect();
        let gated = |(line, crossing): (usize, Crossing)| {
            let LevelSource::Analog { hysteresis, .. } = self.lines[line].source else { return None };
            Some((line, crossing, crossing.line_gate(*scales.get(crossing.analog().0)?, hysteresis)))
        };
        let crossings: Vec<(usize, Crossing, Gate)> = self.made_lines().filter_map(gated).collect();
        let inputs = self.lines.iter().enumerate().map(|(number, line)| ConfiguredInput {
            input: line.line.input.clone().unwrap_or(Input::Number(number as u32)),
            threshold: line.line.threshold,
        });
        let configuration = Configuration {
            before: plan.before,
            beginning: plan.beginning,
            analog: self.configured_analog(&plan.analog),
            analog_every: plan.analog_every,
            stimuli: self.stimuli_for(options),
            trigger: trigger.filter(|_| !plan.stream),
            stream: plan.stream,
            ..Configuration::new(plan.rate, plan.samples, inputs)
        };
        let names: Vec<&str> = self.lines.iter().map(|l| l.line.name.as_str()).collect();
        let origin = Origin {
            source: instrument.identity(),
            rates: plan.rates,
            trigger: program
                .as_ref()
                .map(|p| p.program().text().to_string())
                .or(self.violation(options).map(violation_text)),
            made: options.made,
        };
        let resolution = able.resolution();
        let describe = |trigger: Option<Tick>, remarks: Vec<String>, made: &[SpreadLine]| {
            let base = base.with_zero(trigger.unwrap_or(Tick(0)));
            let mut builder = Capture::builder(base, 0)
                .resolution(resolution)
                .origin(origin.clone())
                .buses(self.buses.clone())
                .attachments(self.texts.clone());
            let mut history = self.changes.clone();
            history.extend(made.iter().map(|made| made.told(self, base)));
            builder = builder.history(history);
            for (number, line) in self.lines.iter().enumerate() {
                let made = made.iter().find(|made| made.line() == number);
                let extra = made.map_or(Time::ZERO, |made| made.extra(base));
                let step = made.map_or(1, |_| plan.analog_every.max(1));
                let line = Line { extra, step, ..line.line.clone() };
                builder = builder.line(line, Trace::constant(Level::Unknown, 0));
            }
            for (analog, scale) in self.analog.iter().zip(&scales) {
                builder = builder.analog_to_come(analog.line.clone(), *scale, plan.analog_every);
            }
            remarks.into_iter().fold(builder, CaptureBuilder::remark).build()
        };
        let made = crossings.iter().map(|(line, crossing, gate)| {
            let scale = scales[crossing.analog().0];
            SpreadLine::new((*line, *crossing), scale, *gate, plan.analog_every)
        });
        let made: Vec<SpreadLine> = made.collect();
        let search = match (&program, self.violation(options)) {
            (Some(program), _) if plan.stream => Some(StreamSearch::new(program).with_analog(&analog).into()),
            (None, Some(names)) => {
                let limits = self.limits_named(names)?.into_iter().cloned().collect();
                Some(Watch::new(describe(None, Vec::new(), &made)?, limits)?.into())
            }
            _ => None,
        };
        let mut described = Described { sink, describe: &describe, made };
        let mut wired = Wired::new(self, instrument, &crossings);
        let acquisition = Acquisition {
            instrument: &mut wired,
            configuration: &configuration,
            names: &names,
            search,
            time_out: self.time_out,
        };
        let recorded = acquisition.run_into(&mut described, progress)?;
        described.made.iter_mut().for_each(SpreadLine::end);
        describe(recorded.trigger, recorded.remarks, &described.made)
    }
}

impl Setup {
    /// What it waits for, in words, where that is the violation of a limit.
    pub fn violation_text(&self, options: RecordOptions) -> Option<String> {
        self.violation(options).map(violation_text)
    }

    /// The limits whose violation it waits for, by their names.
    fn violation(&self, options: RecordOptions) -> Option<&[String]> {
        match self.trigger.as_ref().filter(|_| !options.now) {
            Some(Trigger::Violation(names)) => Some(names),
            _ => None,
        }
    }

    /// What is sent out: without a trigger, nothing follows it.
    fn stimuli_for(&self, options: RecordOptions) -> Vec<Stimulus> {
        let triggered = self.trigger.is_some() && !options.now;
        let due = |s: &&Stimulus| triggered || matches!(s.begins, Begins::AfterArming(_));
        self.stimuli.iter().filter(due).cloned().collect()
    }

    fn configured_analog(&self, ranges: &[VoltageRange]) -> Vec<ConfiguredAnalog> {
        let inputs = self.analog.iter().filter_map(|line| line.line.input);
        inputs.zip(ranges).map(|(input, range)| ConfiguredAnalog { input, range: *range }).collect()
    }

    /// Whether the instrument can wait for this by itself.
    fn waits_on_board(&self, program: &Program, able: &Capabilities) -> bool {
        let edge = program.as_qualified_edge().filter(|_| able.trigger.edge);
        let of_input = |line: LineId| self.lines.get(line.0).is_some_and(|l| l.source == LevelSource::Input);
        edge.is_some_and(|edge| {
            edge.levels.len() <= able.trigger.levels as usize
                && of_input(edge.line)
                && edge.levels.iter().all(|(line, _)| of_input(*line))
        })
    }

    /// Refuses a trigger that looks at lines which are left out.
    fn all_recorded(&self, program: &Program) -> Result<()> {
        let left_out = |signal: &Signal| {
            let line = self.lines.get(signal.line()?.0)?;
            (line.source == LevelSource::LeftOut).then_some(&line.line.name)
        };
        let signals = program.signals();
        let Some(name) = signals.iter().find_map(left_out) else { return Ok(()) };
        let message = format!("the trigger looks at '{name}', which --lines leaves out");
        let error = Error::new(ErrorKind::Setup, message);
        Err(error.with_help(format!(
            "name '{name}' in --lines, too, or wait for something else (--trigger, --now)"
        )))
    }

    fn wanted_bus(&self, bus: &SerialBus) -> Option<WantedBus> {
        let sources: Vec<LevelSource> =
            bus.lines().iter().filter_map(|line| Some(self.lines.get(line.0)?.source)).collect();
        Some(WantedBus {
            name: bus.name().to_string(),
            bit_rate: bus.protocol().bit_rate().filter(|_| !sources.contains(&LevelSource::LeftOut))?,
            analog: sources.iter().any(|source| matches!(source, LevelSource::Analog { .. })),
        })
    }
}

/// A trigger on the violation of limits, in words.
fn violation_text(names: &[String]) -> String {
    match names {
        [] => "violation of any limit".to_string(),
        names => format!("violation of {}", names.join(", ")),
    }
}

fn wanted_analog(line: &super::SetupAnalog) -> WantedAnalog {
    WantedAnalog { name: line.line.name.clone(), number: line.line.input.unwrap_or(0), range: line.range }
}

fn wanted_input(line: &super::SetupLine) -> Option<WantedInput> {
    Some(WantedInput {
        name: line.line.name.clone(),
        source: match (line.source, &line.line.input) {
            (LevelSource::LeftOut, _) => return None,
            (LevelSource::Analog { analog, .. }, _) => WantedSource::Analog(analog.0),
            (LevelSource::Input, Some(Input::Number(number))) => WantedSource::Input(Some(*number)),
            (LevelSource::Input, _) => WantedSource::Input(None),
        },
        threshold: line.line.threshold.map(Threshold::voltage),
        swing: line.swing,
        fastest: line.line.pulses.fastest,
    })
}
