//! What programs read: every document against its schema, every table against the names of the documents.

use std::collections::BTreeSet;

use serde_json::Value;
use tempfile::TempDir;

use crate::support::{captured, root, tool};

/// A command for each form of output on the demo board's records.
const COMMANDS: &[&[&str]] = &[
    &["info", "tide-gauge.dtap"],
    &["info", "power-rail.dtap"],
    &["info", "bench:tide-gauge?instrument=EX-M16"],
    &["info", "bench:tide-gauge?instrument=EX-S16"],
    &["find", "tide-gauge.dtap", "ADC_DRDY_N falls"],
    &["find", "tide-gauge.dtap", "ADC_DRDY_N falls", "--count"],
    &["frames", "buses.dtap"],
    &["frames", "buses.dtap", "--transfers"],
    &["frames", "buses.dtap", "--exchanges"],
    &["frames", "buses.dtap", "--summary"],
    &["registers", "buses.dtap"],
    &["glitches", "tide-gauge.dtap", "--below", "100 ns"],
    &["measure", "tide-gauge.dtap"],
    &["measure", "tide-gauge.dtap", "--lines", "ADC_SCLK", "--average", "16"],
    &["measure", "tide-gauge.dtap", "--each", "ADC_CS_N falls", "--until", "ADC_CS_N rises"],
    &["measure", "tide-gauge.dtap", "--at", "1 ms"],
    &["measure", "tide-gauge.dtap", "--between", "PGOOD rises", "RESET_N rises"],
    &["measure", "tide-gauge.dtap", "--between", "PGOOD rises", "1 ms"],
    &["measure", "power-rail.dtap"],
    &["measure", "power-rail.dtap", "--lines", "VDD33"],
    &["measure", "tide-gauge.dtap", "--limit", "U5.tDH"],
    &["measure", "setups/tide-gauge.toml", "--levels", "--steps", "4", "--over", "1 ms"],
    &["measure", "chart-output.dtap", "--follow", "the chart follows what is written"],
    &["diagnose", "buses.dtap"],
    &["roles", "buses.dtap"],
    &["check", "tide-gauge.dtap"],
    &["check", "buses.dtap"],
    &["check", "power-rail.dtap"],
    &["check", "tide-gauge.dtap", "--all"],
    &["check", "tide-gauge.dtap", "tide-gauge.dtap"],
    &["compare", "tide-gauge.dtap", "buses.dtap"],
    &["compare", "tide-gauge.dtap", "tide-gauge.dtap"],
    &["plan", "setups/tide-gauge.toml"],
    &["plan", "setups/power-rail.toml"],
    &["plan", "setups/power-rail.toml", "--wiring"],
    &["live", "setups/tide-gauge.toml", "--once", "--over", "1 ms"],
    &["answers", "tide-gauge.dtap", "--request", "ADC_DRDY_N falls", "--answer", "ADC_CS_N falls"],
];

fn records() -> TempDir {
    let folder = captured();
    for (kind, name) in [("setups", "power-rail.toml"), ("setups", "buses.toml"), ("parts", "ex-rail33.toml")]
    {
        let from = root().join(kind).join(name);
        std::fs::copy(from, folder.path().join(kind).join(name)).unwrap();
    }
    for name in ["power-rail", "buses", "chart-output"] {
        let setup = root().join(format!("setups/{name}.toml"));
        tool().current_dir(&folder).arg("capture").arg(setup).assert().success();
    }
    folder
}

fn run(folder: &TempDir, command: &[&str], format: &str) -> String {
    let output = tool().current_dir(folder).args(command).args(["--format", format]).output().unwrap();
    assert!(matches!(output.status.code(), Some(0 | 1 | 3)), "{command:?}: {output:?}");
    String::from_utf8(output.stdout).unwrap()
}

fn schema(name: &str) -> Value {
    let path = root().join(format!("docs/schema/{name}.json"));
    serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap()
}

/// A validator of what the schemas use, which besides takes no key that they do not describe.
struct Validator<'a> {
    root: &'a Value,
}

impl Validator<'_> {
    fn check(&self, value: &Value, schema: &Value, place: &str) -> Result<(), String> {
        if let Some(name) = schema["$ref"].as_str() {
            let target =
                self.root.pointer(name.trim_start_matches('#')).ok_or(format!("{place}: no {name}"))?;
            return self.check(value, target, place);
        }
        let fails = |why: &str| Err(format!("{place}: {value} {why}"));
        if schema.get("const").is_some_and(|wanted| wanted != value) {
            return fails("is not the constant");
        }
        if schema["enum"].as_array().is_some_and(|allowed| !allowed.contains(value)) {
            return fails("is none of the words");
        }
        let types: Vec<&str> = match &schema["type"] {
            Value::String(one) => vec![one],
            Value::Array(several) => several.iter().filter_map(Value::as_str).collect(),
            _ => Vec::new(),
        };
        let is = match value {
            Value::Null => "null",
            Value::Bool(_) => "boolean",
            Value::Number(number) if number.is_f64() => "number",
            Value::Number(_) => "integer",
            Value::String(_) => "string",
            Value::Array(_) => "array",
            Value::Object(_) => "object",
        };
        if !types.is_empty() && !types.contains(&is) && (is, types[0]) != ("integer", "number") {
            return fails("is of another type");
        }
        if schema["minimum"].as_f64().zip(value.as_f64()).is_some_and(|(least, value)| value < least) {
            return fails("is too small");
        }
        match value {
            Value::Array(items) => items
                .iter()
                .enumerate()
                .try_for_each(|(at, item)| self.check(item, &schema["items"], &format!("{place}[{at}]"))),
            Value::Object(keys) => self.object(keys, schema, place),
            _ => Ok(()),
        }
    }

    fn object(
        &self,
        keys: &serde_json::Map<String, Value>,
        schema: &Value,
        place: &str,
    ) -> Result<(), String> {
        let required = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str);
        if let Some(missing) = required.into_iter().find(|key| !keys.contains_key(*key)) {
            return Err(format!("{place}: {missing} is missing"));
        }
        keys.iter().try_for_each(|(key, value)| match schema["properties"].get(key) {
            Some(schema) => self.check(value, schema, &format!("{place}.{key}")),
            None => Err(format!("{place}: {key} is not in the schema")),
        })
    }
}

#[test]
fn every_document_is_as_its_schema_says() {
    let folder = records();
    let mut seen = BTreeSet::new();
    for command in COMMANDS {
        let text = run(&folder, command, "json");
        let stream = serde_json::Deserializer::from_str(&text).into_iter::<Value>();
        let documents: Vec<Value> = stream.collect::<Result<_, _>>().unwrap();
        assert!(!documents.is_empty(), "{command:?}");
        for document in documents {
            let name = document["document"].as_str().unwrap();
            let schema = schema(name);
            let valid = Validator { root: &schema }.check(&document, &schema, name);
            assert!(valid.is_ok(), "{command:?}: {}", valid.unwrap_err());
            seen.insert(name.to_string());
        }
    }
    let shipped = std::fs::read_dir(root().join("docs/schema")).unwrap();
    let shipped: BTreeSet<String> = shipped
        .map(|entry| entry.unwrap().path().file_stem().unwrap().to_string_lossy().into_owned())
        .collect();
    assert_eq!(seen, shipped, "each schema is of an output, and each output has one");
    let docs = std::fs::read_to_string(root().join("docs/json.md")).unwrap();
    for name in &seen {
        assert!(docs.contains(&format!("[{name}.json](schema/{name}.json)")), "{name}");
    }
    // The validator itself can say no.
    let count =
        serde_json::json!({"document": "count", "version": 1, "file": "f", "event": "e", "count": -1});
    let schema = schema("count");
    assert!(Validator { root: &schema }.check(&count, &schema, "").is_err());
}

/// Every key of a schema is described, and numbers of a unit say which.
#[test]
fn every_key_is_described() {
    fn walk(schema: &Value, place: &str) {
        if let Some(properties) = schema["properties"].as_object() {
            for (key, value) in properties {
                let place = format!("{place}.{key}");
                assert!(value["description"].as_str().is_some_and(|text| text.len() > 3), "{place}");
                walk(value, &place);
            }
        }
        if schema.get("items").is_some() {
            walk(&schema["items"], &format!("{place}[]"));
        }
    }
    for entry in std::fs::read_dir(root().join("docs/schema")).unwrap() {
        let name = entry.unwrap().path().file_stem().unwrap().to_string_lossy().into_owned();
        walk(&schema(&name), &name);
    }
}

/// The words that SQL engines in use (of ISO/IEC 9075-2 those that they keep to themselves, and their own)
/// refuse as a plain name of a column.
const RESERVED: &str = "all alter analyze and any array as asc asymmetric at authorization begin between binary \
    both by call cascade case cast check collate column condition constraint continue create cross current \
    cursor database day default delete desc describe distinct drop each else end escape except exec exists \
    exit explain false fetch float for foreign from full function generated glob grant group grouping groups \
    having hour if ignore in index inner insert intersect interval into is isnull iterate join key keys kill \
    leading leave left like limit linear lines load lock long loop match merge minute mod natural not notnull \
    null of offset on only option optionally or order out outer outfile over overlaps partition placing \
    precision primary procedure purge range rank read reads real recursive references regexp release rename \
    repeat replace require resignal restrict return returning revoke right row rows schema second select \
    sensitive separator set show signal similar some specific sql ssl starting stored symmetric system table \
    tablesample terminated then to trailing trigger true undo union unique unlock unsigned until update usage \
    use user using values variadic varying verbose virtual when where while window with write xor year \
    zerofill";

/// The words of a name, in whatever order.
fn words(name: &str) -> BTreeSet<String> {
    name.split('_').filter(|word| !word.is_empty()).map(str::to_string).collect()
}

/// The names that a schema allows for a column, as the words of a key, or of a key within another's object.
fn columns_of(schema: &Value) -> BTreeSet<BTreeSet<String>> {
    fn walk(root: &Value, schema: &Value, above: &str, names: &mut BTreeSet<BTreeSet<String>>) {
        let target = schema["$ref"].as_str().and_then(|name| root.pointer(name.trim_start_matches('#')));
        let schema = target.unwrap_or(schema);
        for (key, value) in schema["properties"].as_object().into_iter().flatten() {
            for name in [key.clone(), format!("{above}_{key}"), above.to_string()] {
                names.insert(words(&name));
            }
            walk(root, value, key, names);
        }
        if schema.get("items").is_some() {
            walk(root, &schema["items"], "", names);
        }
    }
    let mut names = BTreeSet::new();
    walk(schema, schema, "", &mut names);
    names
}

#[test]
fn tables_have_the_names_of_the_documents_and_can_be_queried() {
    let folder = records();
    let reserved: BTreeSet<&str> = RESERVED.split_whitespace().collect();
    let mut tables: Vec<(String, Option<BTreeSet<_>>)> = Vec::new();
    for command in COMMANDS {
        let json = run(&folder, command, "json");
        let document =
            serde_json::Deserializer::from_str(&json).into_iter::<Value>().next().unwrap().unwrap();
        let schema = schema(document["document"].as_str().unwrap());
        tables.push((run(&folder, command, "csv"), Some(columns_of(&schema))));
    }
    for (command, file) in [
        (["check", "tide-gauge.dtap", "--occurrences"], "o.csv"),
        (["frames", "buses.dtap", "--table"], "f.csv"),
    ] {
        tool().current_dir(&folder).args(command).arg(file).output().unwrap();
        tables.push((std::fs::read_to_string(folder.path().join(file)).unwrap(), None));
    }
    for (table, known) in tables {
        let mut rows = csv::Reader::from_reader(table.as_bytes());
        let header = rows.headers().unwrap().clone();
        for name in &header {
            assert!(!reserved.contains(name), "{name}: {header:?}");
            let plain = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_';
            assert!(name.bytes().all(plain), "{name}");
            assert!(known.as_ref().is_none_or(|known| known.contains(&words(name))), "{name}: {header:?}");
        }
        let unique: BTreeSet<&str> = header.iter().collect();
        assert_eq!(unique.len(), header.len(), "{header:?}");
        for row in rows.records() {
            let row = row.unwrap();
            assert_eq!(row.len(), header.len());
            for cell in row.iter().filter(|cell| cell.starts_with(['=', '+', '-', '@', '\t'])) {
                assert!(cell.parse::<f64>().is_ok(), "{cell} in {header:?}");
            }
        }
    }
}

/// A number that a program read can be given back to the tool.
#[test]
fn instants_can_be_given_back() {
    let folder = captured();
    let json = run(&folder, &["check", "tide-gauge.dtap"], "json");
    let json: Value = serde_json::from_str(&json).unwrap();
    let results = json["captures"][0]["results"].as_array().unwrap();
    let worst = results.iter().find(|result| result["symbol"] == "tWP").unwrap();
    let at = worst["worst"]["at_s"].as_f64().unwrap();
    for text in [format!("{at} s"), format!("{at:e} s"), format!("{at:e}s")] {
        let said =
            run(&folder, &["measure", "tide-gauge.dtap", "--lines", "MEM_WE_N", "--at", &text], "json");
        let said: Value = serde_json::from_str(&said).unwrap();
        let line = &said["lines"][0];
        assert_eq!(
            (&line["since_s"], &line["pulse_s"]["value"]),
            (&worst["worst"]["at_s"], &worst["worst"]["value"])
        );
    }
}
