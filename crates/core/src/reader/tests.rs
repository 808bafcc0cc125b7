//! The reader tells every problem, each at its place.

use super::Reader;
use crate::error::{ErrorKind, Place};
use crate::quantity::Time;

type Understood = (Option<Time>, Option<String>, Option<bool>);

/// Reads `pace`, `name` and `loud` of a text: what was understood, and each problem with the text it points at.
fn read(text: &str) -> (Understood, Vec<(String, String)>) {
    let reader = Reader::new("some.toml", text, ErrorKind::Setup);
    let understood = reader.read(|section| {
        let pace = section.parsed::<Time>("pace").map(|pace| pace.value);
        let name = section.required("name", "name = \"U1\"").map(|name| name.value);
        (pace, name, section.flag("loud"))
    });
    let told = reader.into_problems().into_iter().map(|problem| {
        let Some(Place::Text(place)) = problem.place() else { panic!("{problem} has no place") };
        assert_eq!(&*place.name, "some.toml");
        let help = problem.help().map_or(String::new(), |help| format!(" [{help}]"));
        (format!("{}{help}", problem.message()), place.text[place.span.clone()].to_string())
    });
    (understood, told.collect())
}

#[test]
fn what_is_right_is_understood() {
    let (understood, problems) = read("pace = \"12.5 ns\"\nname = \"U1\"\nloud = true\n");
    assert_eq!(understood, (Some(Time::from_ps(12_500)), Some("U1".into()), Some(true)));
    assert_eq!(problems, []);
}

#[test]
fn every_problem_is_told_at_once_where_it_is() {
    let (understood, problems) = read("pace = 12.5\nnmae = \"U1\"\nloud = \"yes\"\n");
    assert_eq!(understood, (None, None, None));
    let told: Vec<(&str, &str)> = problems.iter().map(|(what, at)| (what.as_str(), at.as_str())).collect();
    assert_eq!(told.len(), 4, "{told:?}");
    assert!(told[1].0.starts_with("'12.5' has no unit") && told[1].1 == "12.5", "{told:?}");
    assert!(told[0].0.starts_with("the file has no 'name'"), "{told:?}");
    assert!(told[3].0.contains("it should be true or false") && told[3].1 == "\"yes\"", "{told:?}");
    assert!(told[2].0.contains("nmae") && told[2].0.contains("'name'") && told[2].1 == "nmae", "{told:?}");
}

#[test]
fn after_a_slip_in_the_syntax_nothing_else_is_blamed() {
    let (_, problems) = read("pace = \"12.5 ns\nname = 3\n");
    assert!(!problems.is_empty());
    assert!(problems.iter().all(|(what, _)| what.contains("TOML")), "{problems:?}");
}

#[test]
fn numbers_out_of_range_are_told_as_they_are_written_and_the_rest_is_kept() {
    let reader = Reader::new(
        "some.toml",
        "bytes = [1, 0x100, \"x\", 0xff]\nbits = 0\nrates = [\"1 us\", 4, \"3 V\"]",
        ErrorKind::Setup,
    );
    let (bytes, bits, rates) = reader.read(|top| {
        (top.numbers("bytes", 0..=255u8), top.within("bits", 1..=64u32), top.parsed_list::<Time>("rates"))
    });
    assert_eq!(bytes, Some(vec![1, 255]));
    assert!(bits.is_none());
    assert_eq!(rates.unwrap().iter().map(|rate| rate.value).collect::<Vec<_>>(), [Time::from_ps(1_000_000)]);
    let told: Vec<String> = reader.into_problems().iter().map(ToString::to_string).collect();
    assert_eq!(
        told,
        [
            "some.toml:1:13: 'bytes' is 0x100; it should be a whole number from 0 to 255",
            "some.toml:1:20: 'bytes' is a text; it should be a whole number from 0 to 255",
            "some.toml:2:8: 'bits' is 0; it should be a whole number from 1 to 64",
            "some.toml:3:18: '4' has no unit: a time is in s",
            "some.toml:3:21: 'V' is not a unit of a time: it is in s",
        ]
    );
}
