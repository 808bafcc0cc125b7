//! Quantities with units: what is written can be read, exactly; what is not a quantity is refused
//! with a message that names the unit.

use deep_tap::quantity::{
    Bounds, Estimate, Frequency, Percent, Quantity, Rate, Rational, SampleCount, Time, Voltage, estimate,
    uncertain,
};
use deep_tap::time::{Tick, TimeBase};
use proptest::prelude::*;

fn rational() -> impl Strategy<Value = Rational> {
    (any::<i64>(), 1i64..).prop_map(|(n, d)| Rational::new(n.into(), d.into()).unwrap())
}

/// A number of at most fifteen digits with a decimal point somewhere.
fn decimal() -> impl Strategy<Value = Rational> {
    (-999_999_999_999_999i64..=999_999_999_999_999, 0i32..15).prop_map(|(n, places)| {
        Rational::from(n).checked_mul(Rational::power_of_ten(-places).unwrap()).unwrap()
    })
}

proptest! {
    #[test]
    fn what_is_printed_can_be_read(number in decimal()) {
        macro_rules! round_trip { ($($unit:ident),*) => { $(
            let quantity = $unit::from_rational(number);
            let printed = quantity.to_string();
            prop_assert_eq!(printed.parse::<$unit>().unwrap(), quantity, "{}", printed);
            prop_assert_eq!(printed.replace(' ', "").parse::<$unit>().unwrap(), quantity, "{}", printed);
        )* } }
        round_trip!(Time, Rate, Frequency, Voltage);
        let share = Percent::from_fraction(number);
        // A percentage has two places more than a fraction may be written with.
        if let Ok(read) = share.to_string().parse::<Percent>() {
            prop_assert_eq!(read, share);
        }
    }

    /// A program that prints a number of ours as numbers are printed can give it back.
    #[test]
    fn a_number_with_an_exponent_is_read(mantissa in -99_999_999i64..99_999_999, power in -20i32..12) {
        let exact = Rational::from(mantissa).checked_mul(Rational::power_of_ten(power).unwrap()).unwrap();
        let written = [format!("{mantissa}e{power} s"), format!("{mantissa}E{power:+}s")];
        for text in written.into_iter().chain([format!("{:e} s", exact.to_f64())]) {
            prop_assert_eq!(text.parse::<Time>().unwrap(), Time::from_rational(exact), "{}", text);
        }
    }

    #[test]
    fn any_text_is_read_or_refused(text in "[0-9a-zA-Zµ%/. _+-]{0,24}") {
        let _ = (text.parse::<Time>(), text.parse::<Rate>(), text.parse::<Percent>(), text.parse::<SampleCount>());
    }

    #[test]
    fn fractions_are_ordered_as_their_products(a in rational(), b in rational()) {
        let by_product = (a.numerator() * b.denominator()).cmp(&(b.numerator() * a.denominator()));
        prop_assert_eq!(a.cmp(&b), by_product);
        prop_assert_eq!(a.checked_add(b).unwrap().checked_sub(b), Some(a));
        prop_assert_eq!(a.to_string().parse::<Rational>().unwrap(), a);
        let (floor, ceil, round) = (a.floor(), a.ceil(), a.round());
        prop_assert!(floor <= ceil && ceil - floor <= 1 && (round == floor || round == ceil));
    }

    #[test]
    fn a_printed_uncertainty_covers_the_true_one_and_hardly_more(ps in 0i64..10_000_000_000, half in 1i64..1_000_000_000) {
        let quantity = |ps| Quantity::Time(Time::from_ps(ps));
        let (lo, hi) = (quantity(ps - half), quantity(ps + half));
        let bounds = Bounds { lo, hi: Some(hi), lo_exclusive: false, hi_exclusive: false };
        let precise = uncertain(quantity(ps), bounds, Time::from_ps(half));
        let (value, lo, hi) = (ps as f64, (ps - half) as f64, (ps + half) as f64);
        let rough = estimate(Estimate { value, lo, hi }.times(1e-12), "s");
        for (text, factor) in [(precise, 1.02), (rough, 1.12)] {
            let Some((_, off)) = text.split_once(" ± ") else {
                prop_assert!(half as f64 <= value * 1e-12, "{text}");
                continue;
            };
            let off = off.parse::<Time>().unwrap().to_f64() * 1e12;
            // Floating point may lose a hair of what was exact.
            prop_assert!(off >= half as f64 * 0.999_999 && off <= half as f64 * factor, "{half} in {text}");
        }
    }

    #[test]
    fn rounding_never_claims_more_than_the_resolution(ticks in -1_000_000_000i64..1_000_000_000, mega in 1i64..2000) {
        let base = TimeBase::from_rate(Rate::from_rational(Rational::from(mega * 1_000_000))).unwrap();
        let time = base.length_of(ticks);
        let printed = time.rounded(base.tick());
        let read = printed.parse::<Time>().unwrap();
        let off = read.to_rational().checked_sub(time.to_rational()).unwrap().abs();
        // Off by at most half the last digit, which is not coarser than a tick.
        prop_assert!(off <= base.tick().to_rational(), "{time} was printed as {printed}");
        // Pasted back, it finds the tick it came from, or the one beside it.
        let position = base.with_zero(Tick(1 << 40)).position_of(read).unwrap() - (1i64 << 40);
        prop_assert!((position - ticks).abs() <= 1, "{printed} is tick {position}, not {ticks}");
    }
}

#[test]
fn every_prefix_is_known() {
    for (text, numerator, denominator) in [
        ("1 fs", 1, 1_000_000_000_000_000i128),
        ("1ps", 1, 1_000_000_000_000),
        ("12.5 ns", 25, 2_000_000_000),
        ("3 us", 3, 1_000_000),
        ("3 µs", 3, 1_000_000),
        ("3 μs", 3, 1_000_000),
        ("-1.2 ms", -12, 10_000),
        ("\u{2212}1.2ms", -12, 10_000),
        ("+2 s", 2, 1),
        ("1_000.5 s", 10_005, 10),
        ("5 ks", 5000, 1),
    ] {
        assert_eq!(
            text.parse::<Time>().unwrap().to_rational(),
            Rational::new(numerator, denominator).unwrap(),
            "{text}"
        );
    }
    assert_eq!("2 GS/s".parse::<Rate>().unwrap().to_string(), "2 GS/s");
    assert_eq!("400kHz".parse::<Frequency>().unwrap().to_string(), "400 kHz");
    assert_eq!("1.65 V".parse::<Voltage>().unwrap().to_string(), "1.65 V");
    assert_eq!("25 %".parse::<Percent>().unwrap().to_fraction(), Rational::new(1, 4).unwrap());
    assert_eq!("20 ppm".parse::<Percent>().unwrap().to_string(), "20 ppm");
    for text in ["2 M samples", "2M", "2000 k", "2_000_000", "2000000 samples"] {
        assert_eq!(text.parse::<SampleCount>().unwrap(), SampleCount(2_000_000), "{text}");
    }
    assert_eq!(SampleCount(2_500_000).to_string(), "2.5 M samples");
}

#[test]
fn refusals_name_the_unit() {
    for (error, wanted) in [
        ("12.5".parse::<Time>().unwrap_err(), "'12.5' has no unit: a time is in s"),
        ("12.5 MHz".parse::<Time>().unwrap_err(), "'MHz' is not a unit of a time: it is in s"),
        ("100 MHz".parse::<Rate>().unwrap_err(), "'MHz' is not a unit of a sample rate: it is in S/s"),
        ("100 ns ".parse::<Frequency>().unwrap_err(), "'ns' is not a unit of a frequency: it is in Hz"),
        ("3,3 V".parse::<Voltage>().unwrap_err(), "',3 V' is not a unit of a voltage: it is in V"),
        ("fast".parse::<Rate>().unwrap_err(), "'fast' is not a sample rate"),
        ("1.2.3 s".parse::<Time>().unwrap_err(), "'1.2.3 s' is not a number: two decimal points"),
        (". s".parse::<Time>().unwrap_err(), "'. s' is not a number: no digits"),
        ("0.25".parse::<Percent>().unwrap_err(), "'0.25' has no unit: a percentage is in %"),
        ("1.5 samples".parse::<SampleCount>().unwrap_err(), "'1.5 samples' is not a whole number of samples"),
        ("-3".parse::<SampleCount>().unwrap_err(), "'-3' is not a whole number of samples"),
    ] {
        assert_eq!(error.message(), wanted);
    }
    let long = format!("{} s", "9".repeat(40));
    assert!(long.parse::<Time>().unwrap_err().message().contains("more than 18 digits"));
}

#[test]
fn a_tick_that_no_decimal_writes_is_exact() {
    let base = TimeBase::from_rate("24 MS/s".parse().unwrap()).unwrap();
    assert_eq!(base.length_of(24_000_000), "1 s".parse().unwrap());
    assert_eq!(base.tick().to_rational(), Rational::new(1, 24_000_000).unwrap());
    assert_eq!(base.time_of(Tick(7)).rounded(base.tick()), "292 ns");
    assert!(TimeBase::from_rate("0 S/s".parse().unwrap()).is_err());
    assert!(TimeBase::from_tick("-1 ns".parse().unwrap()).is_err());
}
