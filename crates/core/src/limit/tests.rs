//! The judge against what it shortcuts, and formulas against plain arithmetic.

use proptest::prelude::*;

use super::formula::{Operand, evaluate_any};
use super::judge::{Judge, Verdict};
use super::required::Required;
use crate::known::{Instants, Precision};
use crate::line::LineId;
use crate::quantity::{Percent, Quantity, Rational, Time};
use crate::time::{Resolution, TimeBase};

fn resolutions() -> impl Strategy<Value = Resolution> {
    let parts = (any::<bool>(), 0i64..3_000, 0i128..2_000, 0i64..3_000);
    parts.prop_map(|(sampled, skew, ppm, extra)| Resolution {
        sampled,
        skew: Time::from_ps(skew),
        accuracy: Percent::from_fraction(Rational::new(ppm, 1_000_000).unwrap()),
        extra: Time::from_ps(extra),
    })
}

proptest! {
    /// A few comparisons of whole numbers say what the bounds of each interval say.
    #[test]
    fn the_judge_decides_as_the_bounds_do(
        resolution in resolutions(),
        mega in 1i64..500,
        ends in (proptest::option::of(-50_000i64..200_000), proptest::option::of(-50_000i64..200_000)),
        lines in (0usize..2, 0usize..2),
    ) {
        let base = TimeBase::from_tick(Time::from_rational(Rational::new(1, i128::from(mega) * 1_000_000).unwrap())).unwrap();
        let edges = |line| Instants::edges_of(LineId(line));
        let span = Precision::planned(base, &resolution, Time::ZERO).between(&edges(lines.0), &edges(lines.1));
        let required = Required::times(ends.0.map(Time::from_ps), ends.1.map(Time::from_ps));
        let judge = Judge::new(required, &span).unwrap();
        for ticks in -100..100 {
            let bounds = span.bounds(ticks).unwrap();
            let expected = required.decide(bounds.map(Time::to_rational));
            let crossed = required.min.zip(required.max).is_some_and(|(min, max)| min.to_rational() > max.to_rational());
            // Where nothing can pass, a part of the range may fail for two reasons; never may it pass.
            if crossed {
                prop_assert_ne!(judge.decide(ticks), Verdict::Pass);
            } else {
                prop_assert_eq!(judge.decide(ticks), expected, "{} ticks, {} of {}", ticks, bounds, required);
            }
        }
    }
}

/// A formula as a tree, and what it comes to.
#[derive(Clone, Debug)]
enum Tree {
    Number(u32),
    Sign(char, Box<Tree>, Box<Tree>),
    Minus(Box<Tree>),
}

fn trees() -> impl Strategy<Value = Tree> {
    (0u32..50).prop_map(Tree::Number).prop_recursive(5, 32, 2, |inner| {
        let signs = proptest::sample::select(vec!['+', '-', '*', '/']);
        prop_oneof![
            (signs, inner.clone(), inner.clone()).prop_map(|(sign, a, b)| Tree::Sign(
                sign,
                Box::new(a),
                Box::new(b)
            )),
            inner.prop_map(|a| Tree::Minus(Box::new(a))),
        ]
    })
}

impl Tree {
    /// With brackets only where the rules of arithmetic want them: `binding` is that of what is around.
    fn text(&self, binding: u8) -> String {
        let (own, text) = match self {
            Tree::Number(number) => (4, number.to_string()),
            Tree::Minus(inner) => (3, format!("-{}", inner.text(3))),
            Tree::Sign(sign @ ('+' | '-'), a, b) => (1, format!("{} {sign} {}", a.text(1), b.text(2))),
            Tree::Sign(sign, a, b) => (2, format!("{}{sign}{}", a.text(2), b.text(3))),
        };
        if own < binding { format!("({text})") } else { text }
    }

    fn value(&self) -> Option<Rational> {
        match self {
            Tree::Number(number) => Rational::new(i128::from(*number), 1),
            Tree::Minus(inner) => inner.value().map(|value| -value),
            Tree::Sign(sign, a, b) => {
                let (a, b) = (a.value()?, b.value()?);
                match sign {
                    '+' => a.checked_add(b),
                    '-' => a.checked_sub(b),
                    '*' => a.checked_mul(b),
                    _ => a.checked_div(b),
                }
            }
        }
    }
}

proptest! {
    #[test]
    fn formulas_bind_as_arithmetic_does(tree in trees()) {
        let text = tree.text(0);
        let found = evaluate_any(&text, &mut |_| panic!("there is no name in it"));
        match tree.value() {
            Some(value) => prop_assert_eq!(found.unwrap(), Operand::Number(value), "{}", text),
            None => prop_assert!(found.is_err(), "{}", text),
        }
    }
}

#[test]
fn units_that_do_not_go_together_are_refused_at_their_place() {
    let read = |text: &str| {
        evaluate_any(text, &mut |_| Ok(Operand::Quantity(Quantity::Time(Time::from_ps(40_000)))))
    };
    for (text, value) in [("50 % * tCYC", "20 ns"), ("tCYC / 5 ns * 1 us", "8 us"), ("2 tCYC - 0", "80 ns")] {
        assert_eq!(read(text).unwrap(), Operand::Quantity(value.parse().unwrap()), "{text}");
    }
    for text in ["tCYC * tCYC", "tCYC + 1 V", "1 / tCYC", "tCYC / 0", "min(tCYC, 1 V)", "(tCYC", "tCYC)", ""]
    {
        assert!(read(text).unwrap_err().place().is_some(), "{text}");
    }
}
