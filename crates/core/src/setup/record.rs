//! From a setup and an instrument to a capture.

use std::ops::ControlFlow;

use crate::capture::{Capture, CaptureBuilder, Origin, Trace};
use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{Program, StateProblem, StreamSearch};
use crate::instrument::{
    Acquisition, Begins, Capabilities, Configuration, ConfiguredAnalog, ConfiguredInput, Instrument,
    Progress, Sink, Stimulus,
};
use crate::line::{AnalogId, AnalogScale, Input, Level, VoltageRange};
use crate::plan::{Plan, Speed, Wanted, WantedAnalog, WantedBus, WantedInput, plan};
use crate::quantity::{Rate, Time};
use crate::scan::{Memory, Samples};
use crate::time::{Moment, Tick, TimeBase};
use crate::trigger::QualifiedEdge;

use super::{Setup, Trigger};

/// What may differ from the setup when recording.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RecordOptions {
    /// Records at once instead of waiting for the trigger.
    pub now: bool,
    /// Another sample rate than the setup's.
    pub rate: Option<Rate>,
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
        let Some(sampling) = self.sampling else {
            return Err(Error::new(ErrorKind::Setup, "the setup does not say how to record").with_help(
                "add a section like: [sampling] with rate = \"100 MS/s\" and length = \"20 ms\"",
            ));
        };
        if self.lines.is_empty() {
            return Err(Error::new(ErrorKind::Setup, "the setup names no lines to record")
                .with_help("add a section like: [[line]] with name = \"ADC_SCLK\" and input = 3"));
        }
        let program = self.trigger_program(options)?;
        let able = instrument.capabilities();
        Ok(Wanted {
            stream: program.as_ref().is_some_and(|program| !waits_on_board(program, &able)),
            speed: options.rate.map_or(sampling.speed, Speed::Rate),
            length: sampling.length,
            before: if options.now || self.trigger.is_none() {
                crate::plan::Before::Time(Time::ZERO)
            } else {
                sampling.before
            },
            about: program.as_ref().map(Program::about),
            inputs: self.lines.iter().map(wanted_input).collect(),
            buses: self.serial.iter().filter_map(wanted_bus).collect(),
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
            None => Ok(None),
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
        let search = program.as_ref().filter(|_| plan.stream);
        let search = search.map(|p| StreamSearch::new(p).with_analog(&analog));
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
            trigger: program.map(|p| p.program().text().to_string()),
            made: options.made,
        };
        let resolution = able.resolution();
        let describe = |trigger: Option<Tick>, remarks: Vec<String>| {
            let base = base.with_zero(trigger.unwrap_or(Tick(0)));
            let mut builder = Capture::builder(base, 0)
                .resolution(resolution)
                .origin(origin.clone())
                .buses(self.buses.clone())
                .attachments(self.texts.clone());
            let rate = options.rate.map(|rate| format!("recorded at {rate} instead of the setup's rate"));
            builder = builder.history(rate.into_iter().chain(self.changes.iter().cloned()).collect());
            for line in &self.lines {
                builder = builder.line(line.line.clone(), Trace::constant(Level::Unknown, 0));
            }
            for (analog, scale) in self.analog.iter().zip(&scales) {
                builder = builder.analog_to_come(analog.line.clone(), *scale, plan.analog_every);
            }
            remarks.into_iter().fold(builder, CaptureBuilder::remark).build()
        };
        let acquisition = Acquisition {
            instrument,
            configuration: &configuration,
            names: &names,
            search,
            time_out: self.time_out,
        };
        let mut described = Described { sink, describe: &describe };
        let recorded = acquisition.run_into(&mut described, progress)?;
        describe(recorded.trigger, recorded.remarks)
    }
}

impl Setup {
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
}

/// Where a capture goes while it is recorded.
///
/// For who implements it: `begin` is called once, before anything else, and not at all when the
/// trigger does not come. An error ends the recording.
pub trait CaptureSink {
    /// The recording begins; `description` has everything but ticks.
    ///
    /// # Errors
    /// When nothing can be taken.
    fn begin(&mut self, description: Capture) -> Result<()>;

    /// The next samples; bit `i` is the `i`-th line.
    ///
    /// # Errors
    /// When they cannot be taken.
    fn push(&mut self, samples: Samples<'_>) -> Result<()>;
}

/// Keeps the samples as traces, in memory.
impl CaptureSink for Memory {
    fn begin(&mut self, _: Capture) -> Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        Memory::push(self, samples);
        Ok(())
    }
}

/// Makes the description when the recording begins.
struct Described<'a> {
    sink: &'a mut dyn CaptureSink,
    describe: &'a dyn Fn(Option<Tick>, Vec<String>) -> Result<Capture>,
}

impl Sink for Described<'_> {
    fn begin(&mut self, trigger: Option<Tick>) -> Result<()> {
        self.sink.begin((self.describe)(trigger, Vec::new())?)
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        self.sink.push(samples)
    }
}

/// Whether the instrument can wait for this by itself.
fn waits_on_board(program: &Program, able: &Capabilities) -> bool {
    let edge = program.as_qualified_edge().filter(|_| able.trigger.edge);
    edge.is_some_and(|edge| edge.levels.len() <= able.trigger.levels as usize)
}

fn wanted_analog(line: &super::SetupAnalog) -> WantedAnalog {
    WantedAnalog { name: line.line.name.clone(), number: line.line.input.unwrap_or(0), range: line.range }
}

fn wanted_input(line: &super::SetupLine) -> WantedInput {
    WantedInput {
        name: line.line.name.clone(),
        number: match line.line.input {
            Some(Input::Number(number)) => Some(number),
            _ => None,
        },
        threshold: line.line.threshold.map(crate::line::Threshold::voltage),
        swing: line.swing,
        fastest: line.line.pulses.fastest,
    }
}

fn wanted_bus(bus: &SerialBus) -> Option<WantedBus> {
    Some(WantedBus { name: bus.name().to_string(), bit_rate: bus.protocol().bit_rate()? })
}
