//! What fits, but is unwise.

use super::{Plan, Wanted, WantedBus, WantedInput, WantedSource};
use crate::quantity::{Rate, Rational, Time, Voltage};

/// Something that can be done, but should not.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// What is unwise, and why.
    pub message: String,
    /// What would be better.
    pub help: String,
}

/// Samples per period of the fastest signal: below the first its shape is lost, at the second it is
/// seen well.
const SAMPLES_PER_PERIOD: (i128, i128) = (5, 10);

/// Samples per bit from which on decoding has margin.
const SAMPLES_PER_BIT: i64 = 8;

/// What is unwise about a plan.
pub fn advice(wanted: &Wanted, plan: &Plan) -> Vec<Advice> {
    let inputs = wanted.inputs.iter();
    let inputs = inputs.flat_map(|input| too_slow(input, plan).into_iter().chain(off_the_middle(input)));
    let buses = wanted.buses.iter().filter_map(|bus| few_per_bit(bus, plan));
    inputs.chain(buses).chain(without_its_beginning(wanted, plan)).collect()
}

/// A part before the trigger that is shorter than what the trigger is about.
fn without_its_beginning(wanted: &Wanted, plan: &Plan) -> Option<Advice> {
    let about = wanted.about.filter(|_| !plan.beginning)?;
    let tick = plan.rate.period()?.to_rational();
    let kept = tick.checked_mul(Rational::new(i128::from(plan.before), 1)?)?;
    if plan.before > 0 && kept >= about.to_rational() {
        return None;
    }
    let (message, least) = match about > Time::ZERO {
        true => {
            let kept = Time::from_rational(kept);
            let about = about.to_rational().up_to_two_digits().map_or(about, Time::from_rational);
            let message = format!(
                "the frame or sequence that triggers takes about {about} or more, but only {kept} before the trigger is kept: its beginning is lost"
            );
            (message, format!("before-trigger = \"{about}\" or more"))
        }
        false => {
            let message = "nothing before the trigger is kept: the record does not show its edge".to_string();
            (message, "a time of one sample or more".to_string())
        }
    };
    Some(Advice { message, help: format!("leave 'before-trigger' out, or give {least}") })
}

/// Fewer than eight samples per bit of a bus without a clock.
fn few_per_bit(bus: &WantedBus, plan: &Plan) -> Option<Advice> {
    let bit_rate = bus.bit_rate.to_rational();
    let own = if bus.analog { plan.analog_rate() } else { plan.rate };
    let samples = own.to_rational().checked_div(bit_rate)?;
    if samples >= Rational::from(SAMPLES_PER_BIT) {
        return None;
    }
    let well = Rate::from_rational(bit_rate.checked_mul(Rational::from(SAMPLES_PER_BIT))?);
    let message = format!(
        "bus '{}': {:.1} samples per bit at {}; a sender whose clock is a little off is misread",
        bus.name,
        samples.to_f64(),
        own
    );
    let offered = plan.rates.iter().find(|rate| **rate >= well);
    let help = match offered {
        _ if bus.analog => {
            format!("it takes {well} of its analog line: another 'analog-rate', or a digital input")
        }
        Some(rate) => format!("record at {rate} or more: eight samples per bit"),
        None => format!("it takes {well}, which the instrument does not have for this many lines"),
    };
    Some(Advice { message, help })
}

/// Fewer than five samples per period of the fastest signal.
fn too_slow(input: &WantedInput, plan: &Plan) -> Option<Advice> {
    let fastest = input.fastest?.to_rational();
    let analog = matches!(input.source, WantedSource::Analog(_));
    let own = if analog { plan.analog_rate() } else { plan.rate };
    let samples = own.to_rational().checked_div(fastest)?;
    let times = |count| Some(Rate::from_rational(Rational::new(count, 1)?.checked_mul(fastest)?));
    let (least, well) = (times(SAMPLES_PER_PERIOD.0)?, times(SAMPLES_PER_PERIOD.1)?);
    if own >= least {
        return None;
    }
    let nonsense = samples < Rational::from(2);
    let what = if nonsense { "edges will be missing" } else { "its shape and timing are lost" };
    let name = &input.name;
    let frequency = input.fastest?;
    let message = format!(
        "'{name}' is as fast as {frequency}: {:.1} samples per period at {}, {what}",
        samples.to_f64(),
        own
    );
    let offered = |from: Rate| plan.rates.iter().find(|rate| **rate >= from);
    let help = match (offered(least), offered(well)) {
        _ if analog => {
            format!("it takes {least} of its analog line: another 'analog-rate', or a digital input")
        }
        (Some(least), Some(well)) if least != well => format!("{least} is the least, {well} is good"),
        (Some(least), _) => format!("record at {least}"),
        (None, _) => format!(
            "it takes {least}, which the instrument does not have for this many lines: record fewer at once"
        ),
    };
    Some(Advice { message, help })
}

/// A threshold outside the middle third of the swing.
fn off_the_middle(input: &WantedInput) -> Option<Advice> {
    let (threshold, swing) = (input.threshold?, input.swing?);
    let third = |count| {
        let share = Rational::new(count, 3)?;
        Some(Voltage::from_rational(swing.to_rational().checked_mul(share)?))
    };
    let (low, high) = (third(1)?, third(2)?);
    if (low..=high).contains(&threshold) {
        return None;
    }
    let name = &input.name;
    let half = Voltage::from_rational(swing.to_rational().checked_mul(Rational::new(1, 2)?)?);
    let why = if threshold > swing || threshold < Voltage::ZERO {
        "the signal never crosses it"
    } else {
        "slow edges are seen too early or too late, and noise counts as edges"
    };
    let message = format!(
        "the threshold of '{name}', {threshold}, is not in the middle third of its swing of {swing}: {why}"
    );
    Some(Advice { message, help: format!("set it near {half}") })
}
