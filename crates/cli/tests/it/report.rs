//! The page to hand over: what stands in it, and that it stands alone.

use std::collections::HashSet;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use serde_json::Value;

use crate::support::{captured, tool};

/// What a page is made of.
#[derive(Default)]
pub(crate) struct Parts {
    /// What is read, a blank between elements.
    text: String,
    ids: HashSet<String>,
    links: Vec<String>,
    pub(crate) scripts: usize,
    /// Pictures for the script.
    data: Vec<Value>,
    pictures: usize,
}

/// Reads a page as strictly as a page can be read: every element ends, every name is there once, nothing comes from
/// elsewhere.
pub(crate) fn parts(page: &str) -> Parts {
    let mut parts = Parts::default();
    // Scripts and style sheets are no markup.
    let (mut markup, mut rest) = (String::new(), page);
    while let Some(start) = ["<script", "<style"].iter().filter_map(|tag| rest.find(tag)).min() {
        let (before, own) = rest.split_at(start);
        let end = own.find("</").unwrap();
        let (head, body) = own[..end].split_once('>').unwrap();
        markup.push_str(before);
        if head.contains("application/json") {
            parts.data.push(serde_json::from_str(body).unwrap());
        } else {
            assert!(!body.contains("http") && !body.contains("url(") && !body.contains("@import"), "{head}");
        }
        parts.scripts += usize::from(head.starts_with("<script"));
        rest = own[end..].split_once('>').unwrap().1;
    }
    markup.push_str(rest);
    let mut reader = Reader::from_str(markup.trim_start_matches("<!DOCTYPE html>"));
    loop {
        match reader.read_event().unwrap() {
            Event::Eof => return parts,
            Event::Start(of) | Event::Empty(of) => element(&mut parts, &of),
            Event::Text(text) => parts.text.push_str(&format!(" {}", text.xml10_content().unwrap())),
            Event::GeneralRef(of) => {
                let character = of.resolve_char_ref().unwrap();
                parts.text.extend(character);
            }
            _ => {}
        }
    }
}

fn element(parts: &mut Parts, of: &BytesStart<'_>) {
    let tag = String::from_utf8(of.name().as_ref().to_vec()).unwrap();
    assert!(
        !matches!(tag.as_str(), "link" | "iframe" | "object" | "embed" | "img" | "base" | "form"),
        "{tag}"
    );
    parts.pictures += usize::from(tag == "svg");
    for attribute in of.attributes() {
        let attribute = attribute.unwrap();
        let name = String::from_utf8(attribute.key.as_ref().to_vec()).unwrap();
        let value = String::from_utf8(attribute.value.to_vec()).unwrap();
        assert!(!name.starts_with("on") && name != "src", "{tag} {name}");
        match name.as_str() {
            "id" => assert!(parts.ids.insert(value.clone()), "{value} is there twice"),
            "href" => parts.links.push(value.strip_prefix('#').expect("a link within the page").to_string()),
            _ => {}
        }
    }
}

#[test]
fn a_report_says_what_check_says_and_shows_it() {
    let folder = captured();
    let run = |args: &[&str]| tool().current_dir(&folder).args(args).output().unwrap();
    let made = run(&["report", "tide-gauge.dtap"]);
    let said = String::from_utf8(made.stdout).unwrap();
    assert!(said.contains("saved to tide-gauge.html"), "{said}");
    let page = std::fs::read_to_string(folder.path().join("tide-gauge.html")).unwrap();
    assert!(page.len() < 3_000_000, "{}", page.len());
    let parts = parts(&page);
    for link in &parts.links {
        assert!(parts.ids.contains(link), "nothing is called {link}");
    }
    let checked = run(&["check", "tide-gauge.dtap", "--all", "--format", "json"]).stdout;
    let checked: Value = serde_json::from_slice(&checked).unwrap();
    let capture = &checked["captures"][0];
    let results = capture["results"].as_array().unwrap();
    assert!(results.len() > 10);
    for result in results {
        let name =
            format!("{}.{}", result["reference"].as_str().unwrap(), result["symbol"].as_str().unwrap());
        let word = match result["verdict"].as_str().unwrap() {
            "fail" => "FAIL",
            "not-seen" => "not seen",
            other => other,
        };
        let row = parts.text.split(&format!(" {name} ")).any(|after| after.contains(word));
        assert!(row && parts.text.contains(result["what"].as_str().unwrap()), "{name}");
    }
    // Every violation has a row, and each of these a picture: there are fewer than fifty.
    let violations = capture["violations"].as_array().unwrap().len();
    assert_eq!(page.matches("class=\"violation\"").count(), violations);
    // Each picture that moves begins with what stands still.
    assert!(parts.data.len() > results.len() / 2 && parts.pictures >= parts.data.len());
    for picture in &parts.data {
        let columns = picture["columns"].as_u64().unwrap();
        let (from, to) = (picture["first"][0].as_u64().unwrap(), picture["first"][1].as_u64().unwrap());
        assert!(from < to && to <= columns);
        for row in picture["rows"].as_array().unwrap().iter().filter(|row| row["kind"] == "line") {
            let runs: Vec<u64> =
                row["runs"].as_array().unwrap().iter().map(|n| n.as_u64().unwrap()).collect();
            assert_eq!(runs.iter().step_by(2).sum::<u64>(), columns, "{}", row["name"]);
        }
    }
    // A page is not replaced by accident.
    assert_eq!(run(&["report", "tide-gauge.dtap"]).status.code(), Some(2));
    let again = run(&["report", "tide-gauge.dtap", "--output", "-"]).stdout;
    assert_eq!(String::from_utf8(again).unwrap(), page);
}

#[test]
fn several_records_stand_side_by_side() {
    let folder = captured();
    let run = |args: &[&str]| tool().current_dir(&folder).args(args).output().unwrap();
    run(&["capture", "setups/tide-gauge.toml", "--rate", "max", "--output", "b.dtap"]);
    run(&["convert", "tide-gauge.dtap", "plain.vcd"]);
    let made = run(&["report", "tide-gauge.dtap", "b.dtap", "plain.vcd"]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let page = std::fs::read_to_string(folder.path().join("report.html")).unwrap();
    let parts = parts(&page);
    assert!(page.len() < 8_000_000 && parts.ids.contains("side-by-side"));
    // A record without a setup has waveforms, and is asked nothing.
    assert!(parts.text.contains("not asked") && parts.ids.contains("r3-all"));
    for name in ["r1-limit1", "r2-limit1"] {
        assert!(parts.links.iter().any(|link| link == name), "{name}");
    }
}
