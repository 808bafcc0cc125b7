//! The core's modules know only what stands to their left.

use std::path::Path;

/// Left never knows right; modules on one step do not know each other.
const ORDER: &[&[&str]] = &[
    &["error"],
    &["time"],
    &["line"],
    &["capture"],
    &["scan", "known"],
    &["event"],
    &["trigger", "decode", "measure"],
    &["limit"],
    &["expect"],
    &["instrument"],
    &["plan"],
    &["setup"],
    &["format", "diagnose"],
];

fn sources(folder: &Path) -> Vec<std::path::PathBuf> {
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
