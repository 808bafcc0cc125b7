//! The core's modules know only what stands to their left, and no files of one room know each other in
//! a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Left never knows right; modules on one step do not know each other.
const ORDER: &[&[&str]] = &[
    &["error", "printable"],
    &["quantity"],
    &["reader", "time"],
    &["line"],
    &["capture"],
    &["scan", "known", "bus"],
    &["decode", "message"],
    &["event"],
    &["exchange", "trigger", "pair"],
    &["measure"],
    &["limit"],
    &["expect"],
    &["instrument"],
    &["plan"],
    &["setup"],
    &["format", "diagnose"],
    &["roles"],
    &["job"],
    &["compare"],
];

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
    found
}

#[test]
fn nothing_runs_backwards() {
    let core = crate::support::root().join("crates/core/src");
    let rank = |module: &str| ORDER.iter().position(|step| step.contains(&module));
    let mut uses = 0;
    for path in sources(&core) {
        let inside = path.strip_prefix(&core).unwrap();
        let module =
            inside.components().next().unwrap().as_os_str().to_str().unwrap().trim_end_matches(".rs");
        if module == "lib" {
            continue;
        }
        let own = rank(module).unwrap_or_else(|| panic!("'{module}' has no place in the order"));
        let text = std::fs::read_to_string(&path).unwrap();
        for (number, line) in text.lines().enumerate().filter(|(_, l)| !l.trim_start().starts_with("//")) {
            for (at, _) in line.match_indices("crate::") {
                let used: String =
                    line[at + 7..].chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                let Some(step) = rank(&used) else { continue };
                uses += 1;
                let allowed = step < own || used == module;
                assert!(allowed, "{}:{}: '{module}' uses '{used}'", inside.display(), number + 1);
            }
        }
    }
    assert!(uses > 50, "the test looked at nothing");
}

#[test]
fn no_name_is_two_things() {
    let mut owners: BTreeMap<String, PathBuf> = BTreeMap::new();
    for room in ["core", "bench", "draw"] {
        for path in sources(&crate::support::root().join("crates").join(room).join("src")) {
            let text = std::fs::read_to_string(&path).unwrap();
            let declared = text.lines().filter_map(|line| {
                let mut words = line.trim_start().strip_prefix("pub ")?.split(|c: char| !c.is_alphanumeric());
                let kind = words.next()?;
                ["struct", "enum", "trait", "type"].contains(&kind).then(|| words.next().unwrap().to_string())
            });
            // The names that a macro makes are declared where it is used.
            for name in declared.filter(|name| !name.is_empty()) {
                // Types of a trait are named by the trait.
                let other = owners.insert(name.clone(), path.clone()).filter(|other| *other != path);
                assert_eq!(other, None, "'{name}' is also declared in {}", path.display());
            }
        }
    }
    assert!(owners.len() > 100, "the test looked at nothing");
}

/// A `use` of one file: where it leads, and whether it only passes a name on.
struct Use {
    path: Vec<String>,
    passes_on: bool,
}

/// The `use` declarations of a text, each with one path.
fn uses(text: &str) -> Vec<Use> {
    let code: String =
        text.lines().map(|line| line.split("//").next().unwrap_or("").to_string() + "\n").collect();
    let mut found = Vec::new();
    for (start, _) in code.match_indices("use ") {
        let line = code[..start].rfind('\n').map_or(0, |at| at + 1);
        let before = code[line..start].trim();
        let Some(end) =
            code[start..].find(';').filter(|_| before.is_empty() || before == "pub" || before.ends_with(')'))
        else {
            continue;
        };
        let mut paths = Vec::new();
        spread(&code[start + 4..start + end], &[], &mut paths);
        found.extend(paths.into_iter().map(|path| Use { path, passes_on: before.starts_with("pub") }));
    }
    found.extend(code.lines().flat_map(written_out).map(|path| Use { path, passes_on: false }));
    found
}

/// Paths that a line of code writes out, as in `super::part::make()`.
fn written_out(line: &str) -> Vec<Vec<String>> {
    if line.trim_start().starts_with("use ") || line.trim_start().starts_with("pub") && line.contains(" use ")
    {
        return Vec::new();
    }
    let part_of_name = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    let starts = line.match_indices("super::").chain(line.match_indices("crate::")).map(|(at, _)| at);
    // A longer path that goes through it, and a visibility, are none.
    let starts = starts.filter(|at| !line[..*at].ends_with(part_of_name) && !line[..*at].ends_with("in "));
    let path = |at: usize| {
        let text: String = line[at..].chars().take_while(|c| part_of_name(*c)).collect();
        text.split("::").filter(|word| !word.is_empty()).map(str::to_string).collect()
    };
    starts.map(path).collect()
}

/// `a::{b, c::d}` as `a::b` and `a::c::d`.
fn spread(text: &str, before: &[String], found: &mut Vec<Vec<String>>) {
    let words = |text: &str| -> Vec<String> {
        let text = text.split(" as ").next().unwrap_or("");
        text.split("::").map(|word| word.trim().to_string()).filter(|word| !word.is_empty()).collect()
    };
    let Some(open) = text.find('{') else {
        found.push(before.iter().cloned().chain(words(text)).collect());
        return;
    };
    let head: Vec<String> = before.iter().cloned().chain(words(&text[..open])).collect();
    let inner = &text[open + 1..text.rfind('}').unwrap()];
    let (mut depth, mut from) = (0, 0);
    for (at, sign) in inner.char_indices().chain([(inner.len(), ',')]) {
        match sign {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                if !inner[from..at].trim().is_empty() {
                    spread(&inner[from..at], &head, found);
                }
                from = at + 1;
            }
            _ => {}
        }
    }
}

/// The path of a file's module within its crate.
fn module_of(crate_root: &Path, file: &Path) -> Vec<String> {
    let inside = file.strip_prefix(crate_root).unwrap().with_extension("");
    let words = inside.components().map(|part| part.as_os_str().to_str().unwrap().to_string());
    words.filter(|word| !matches!(word.as_str(), "mod" | "lib" | "main")).collect()
}

struct Room {
    files: BTreeMap<Vec<String>, Vec<Use>>,
}

impl Room {
    fn read(root: &Path) -> Room {
        let read = |file: PathBuf| (module_of(root, &file), uses(&std::fs::read_to_string(&file).unwrap()));
        Room { files: sources(root).into_iter().map(read).collect() }
    }

    fn absolute(&self, from: &[String], path: &[String]) -> Option<Vec<String>> {
        let mut base = match path.first()?.as_str() {
            "crate" => Vec::new(),
            "self" => from.to_vec(),
            "super" => from[..from.len().checked_sub(1)?].to_vec(),
            // A file's own children, as in 'pub use part::Thing'.
            own if self.files.contains_key(&[from, &[own.to_string()]].concat()) => {
                return Some([from, path].concat());
            }
            _ => return None,
        };
        for word in &path[1..] {
            match word.as_str() {
                "super" => base.truncate(base.len().checked_sub(1)?),
                word => base.push(word.to_string()),
            }
        }
        Some(base)
    }

    /// The file that a name really comes from, names that are passed on followed.
    fn source(&self, path: &[String], left: usize) -> Option<Vec<String>> {
        let file =
            (0..=path.len()).rev().map(|len| path[..len].to_vec()).find(|p| self.files.contains_key(p))?;
        let name = path.get(file.len());
        let passed = self.files[&file].iter().filter(|used| used.passes_on);
        let passed = passed.filter(|used| used.path.last() == name && name.is_some());
        let next = passed.filter_map(|used| self.absolute(&file, &used.path)).next();
        match next.filter(|_| left > 0) {
            Some(next) => self.source(&next, left - 1),
            None => Some(file),
        }
    }

    /// Which files each file knows.
    fn arrows(&self) -> BTreeMap<Vec<String>, BTreeSet<Vec<String>>> {
        let known = |file: &Vec<String>, uses: &Vec<Use>| {
            let uses = uses.iter().filter(|used| !used.passes_on);
            let sources = uses.filter_map(|used| self.source(&self.absolute(file, &used.path)?, 8));
            sources.filter(|source| source != file).collect()
        };
        self.files.iter().map(|(file, uses)| (file.clone(), known(file, uses))).collect()
    }
}

/// A way from a file back to itself, if there is one.
fn circle(
    at: &Vec<String>,
    arrows: &BTreeMap<Vec<String>, BTreeSet<Vec<String>>>,
    way: &mut Vec<Vec<String>>,
    done: &mut BTreeSet<Vec<String>>,
) -> Option<Vec<Vec<String>>> {
    if let Some(begin) = way.iter().position(|file| file == at) {
        return Some(way[begin..].to_vec());
    }
    if done.contains(at) {
        return None;
    }
    way.push(at.clone());
    let found = arrows.get(at).into_iter().flatten().find_map(|next| circle(next, arrows, way, done));
    way.pop();
    done.insert(at.clone());
    found
}

#[test]
fn no_files_know_each_other_in_a_circle() {
    for name in ["core", "bench", "draw", "cli"] {
        let room = Room::read(&crate::support::root().join("crates").join(name).join("src"));
        let arrows = room.arrows();
        assert!(arrows.values().map(BTreeSet::len).sum::<usize>() > 10, "the test looked at nothing");
        let mut done = BTreeSet::new();
        let circles: Vec<_> =
            arrows.keys().filter_map(|file| circle(file, &arrows, &mut Vec::new(), &mut done)).collect();
        let told: Vec<String> = circles
            .iter()
            .map(|circle| circle.iter().map(|file| file.join("::")).collect::<Vec<_>>().join(" → "))
            .collect();
        assert!(circles.is_empty(), "in {name}:\n{}", told.join("\n"));
    }
}

/// What the test above stands on: names are followed to where they are made.
#[test]
fn declarations_are_read_as_the_compiler_reads_them() {
    let found = uses(
        "use a::{b, c::{d, self}};\npub use e::F as G;\n// use x;\nlet because = 1;\npub(super) use h;\nlet i = super::super::j::k(l::m);\npub(in crate::n) fn o() {}",
    );
    let told: Vec<(String, bool)> = found.iter().map(|u| (u.path.join("::"), u.passes_on)).collect();
    let wanted = [
        ("a::b", false),
        ("a::c::d", false),
        ("a::c::self", false),
        ("e::F", true),
        ("h", true),
        ("super::super::j::k", false),
    ];
    assert_eq!(told, wanted.map(|(path, passes)| (path.to_string(), passes)));
}
