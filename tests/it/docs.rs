//! What the documents show is true of this commit.

use deep_tap::bench::{command_table, connect};
use deep_tap::capture::Attachment;
use deep_tap::event::Event;
use deep_tap::format::Folder;
use deep_tap::setup::{Attached, RecordOptions, Setup, Texts};

use crate::support::root;

fn document(name: &str) -> String {
    std::fs::read_to_string(root().join(name)).unwrap()
}

/// The fenced blocks of a language.
fn blocks(text: &str, language: &str) -> Vec<String> {
    let fence = format!("```{language}\n");
    text.split(&fence).skip(1).map(|rest| rest.split("```").next().unwrap().to_string()).collect()
}

/// One text beside the files of a folder.
struct Beside(Attachment, Folder);

impl Texts for Beside {
    fn read(&self, name: &str) -> deep_tap::Result<String> {
        if name == self.0.name { Ok(self.0.text.clone()) } else { self.1.read(name) }
    }
}

#[test]
fn setups_and_limits_in_the_documents_load() {
    let mut seen = 0;
    for name in [
        "docs/setup.md",
        "docs/meant.md",
        "docs/records.md",
        "docs/limits.md",
        "docs/walkthrough.md",
        "docs/network.md",
        "docs/bench.md",
        "README.md",
    ] {
        for block in blocks(&document(name), "toml") {
            seen += 1;
            if block.starts_with("# setup") {
                let text = Attachment { name: "documented.toml".into(), text: block };
                let setup = Setup::load("documented.toml", &Beside(text, Folder::new(root().join("setups"))));
                setup.unwrap_or_else(|e| panic!("{name}: {e:?}"));
                continue;
            }
            if block.starts_with("# bench") {
                let folder = tempfile::tempdir().unwrap();
                std::fs::write(folder.path().join("b.toml"), block).unwrap();
                connect("bench:b.toml", folder.path()).unwrap_or_else(|e| panic!("{name}: {e:?}"));
                continue;
            }
            // A limits file is loaded by a setup that wires every pin.
            assert!(block.starts_with("# limits"), "{name}: a block that says neither setup nor limits");
            let pins = block.split("[pins]").nth(1).unwrap().split("\n[").next().unwrap();
            let pins: Vec<&str> =
                pins.lines().filter_map(|l| l.split_once(" = ").map(|(pin, _)| pin)).collect();
            let lines: String = pins.iter().map(|p| format!("[[line]]\nname = \"{p}\"\n")).collect();
            let wires: Vec<String> = pins.iter().map(|p| format!("{p} = \"{p}\"")).collect();
            let limits = block.matches("[[limit]]").count();
            let board = format!(
                "{lines}[[part]]\nreference = \"U1\"\nlimits = \"p.toml\"\npins = {{ {} }}\n",
                wires.join(", ")
            );
            let texts =
                [("s.toml", board), ("p.toml", block)].map(|(n, t)| Attachment { name: n.into(), text: t });
            let setup = Setup::load("s.toml", &Attached(&texts)).unwrap_or_else(|e| panic!("{name}: {e:?}"));
            assert_eq!(setup.limits().count(), limits);
        }
    }
    assert!(seen >= 3);
}

#[test]
fn the_reference_of_the_network_lists_every_command() {
    let text = document("docs/network.md");
    assert!(text.contains(&command_table()), "paste what `deep-tap serve --commands` prints");
}

#[test]
fn every_setup_and_board_that_ships_can_be_planned() {
    let mut seen = 0;
    let setups = std::fs::read_dir(root().join("setups")).unwrap().map(|e| e.unwrap().path());
    for path in setups.filter(|path| path.extension().is_some_and(|e| e == "toml")) {
        let setup = Setup::from_file(&path).unwrap_or_else(|e| panic!("{}: {e:?}", path.display()));
        let instrument = connect(setup.connect.as_deref().unwrap(), path.parent().unwrap()).unwrap();
        setup
            .plan(&*instrument, RecordOptions::default())
            .unwrap_or_else(|e| panic!("{}: {e:?}", path.display()));
        seen += 1;
    }
    assert!(seen >= 4);
}

#[test]
fn expressions_in_the_tables_parse() {
    let text = document("docs/events.md");
    let rows = text.lines().filter_map(|l| l.strip_prefix("| `")).filter_map(|l| l.split('`').next());
    let mut seen = 0;
    for expression in rows {
        Event::parse(expression).unwrap_or_else(|e| panic!("{expression}: {e:?}"));
        seen += 1;
    }
    assert!(seen >= 14);
}

#[test]
fn links_between_documents_lead_somewhere() {
    let in_docs = std::fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().file_name());
    let in_docs = in_docs.map(|name| format!("docs/{}", name.to_string_lossy()));
    let documents = in_docs.filter(|name| name.ends_with(".md"));
    for name in documents.chain(["README.md".to_string(), "CONTRIBUTING.md".to_string()]) {
        let name = name.as_str();
        let folder = root().join(name).parent().unwrap().to_path_buf();
        // What stands in code is no link.
        let text = document(name);
        let prose = text.split("```").step_by(2).flat_map(|part| part.split('`').step_by(2));
        let links = prose.flat_map(|part| part.split("](").skip(1));
        for link in links.map(|rest| rest.split(')').next().unwrap().to_string()) {
            if link.starts_with("http") {
                continue;
            }
            let (file, heading) = link.split_once('#').unwrap_or((&link, ""));
            let target = if file.is_empty() { root().join(name) } else { folder.join(file) };
            assert!(target.exists(), "{name} links to {link}");
            if !heading.is_empty() {
                let text = std::fs::read_to_string(&target).unwrap();
                let anchors = text
                    .lines()
                    .filter(|line| line.starts_with('#'))
                    .map(|line| line.trim_start_matches(['#', ' ']).to_lowercase().replace(' ', "-"));
                assert!(anchors.into_iter().any(|anchor| anchor == heading), "{name} links to {link}");
            }
        }
    }
}
