use std::path::{Path, PathBuf};

use assert_cmd::Command;
use tempfile::TempDir;

/// The root of the project.
pub(crate) fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The tool's program.
pub(crate) fn binary() -> &'static str {
    env!("CARGO_BIN_EXE_deep-tap")
}

pub(crate) fn tool() -> Command {
    let mut command = Command::new(binary());
    command.env("NO_COLOR", "1").env_remove("COLUMNS");
    command
}

/// A folder with the shipped setup and limits.
pub(crate) fn shipped() -> TempDir {
    let folder = TempDir::new().unwrap();
    for (kind, names) in
        [("setups", &["tide-gauge.toml"][..]), ("parts", &["ex-sup33.toml", "ex-adc24.toml", "ex-mem8.toml"])]
    {
        std::fs::create_dir(folder.path().join(kind)).unwrap();
        for name in names {
            std::fs::copy(root().join(kind).join(name), folder.path().join(kind).join(name)).unwrap();
        }
    }
    folder
}

/// The same with a capture made from them.
pub(crate) fn captured() -> TempDir {
    let folder = shipped();
    let run = tool().current_dir(&folder).args(["capture", "setups/tide-gauge.toml"]).assert().success();
    let said = String::from_utf8(run.get_output().stdout.clone()).unwrap();
    assert!(said.starts_with("recorded 25 ms at 100 MS/s: 2.5 M samples, 22 lines"), "{said}");
    assert!(folder.path().join("tide-gauge.dtap").exists());
    folder
}
