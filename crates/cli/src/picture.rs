//! Saving pictures.

use std::path::Path;

use deep_tap::draw::{Drawing, Ground};
use deep_tap::{Error, ErrorKind, Place};

use crate::args;
use crate::errors::Failure;
use crate::output::save as save_file;

/// Saves a drawing in the format that the name's ending says.
pub(crate) fn save(
    drawing: &Drawing,
    path: &Path,
    ground: args::Ground,
    replace: bool,
) -> Result<(), Failure> {
    save_large(drawing, path, (ground, 1.0), replace)
}

/// The same, so many times as large.
pub(crate) fn save_large(
    drawing: &Drawing,
    path: &Path,
    (ground, scale): (args::Ground, f32),
    replace: bool,
) -> Result<(), Failure> {
    let ground = match ground {
        args::Ground::Light => Ground::Light,
        args::Ground::Dark => Ground::Dark,
    };
    let bytes = match ending(path)? {
        Ending::Svg => drawing.svg(ground, scale).into_bytes(),
        Ending::Png => png(drawing, (ground, scale), path)?,
    };
    save_file(path, replace, |file| file.write_all(&bytes))
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Ending {
    Svg,
    Png,
}

fn ending(path: &Path) -> Result<Ending, Failure> {
    match path.extension().map(|ending| ending.to_string_lossy().to_lowercase()).as_deref() {
        Some("svg") => Ok(Ending::Svg),
        Some("png") => Ok(Ending::Png),
        _ => {
            let error = Error::new(ErrorKind::Unknown, "the name does not say which kind of picture this is");
            Err(error.with_help("let it end in .svg or .png").at(Place::File(path.to_path_buf())).into())
        }
    }
}

#[cfg(feature = "png")]
fn png(drawing: &Drawing, (ground, scale): (Ground, f32), _: &Path) -> Result<Vec<u8>, Failure> {
    Ok(drawing.png(ground, scale)?)
}

#[cfg(not(feature = "png"))]
fn png(_: &Drawing, _: (Ground, f32), path: &Path) -> Result<Vec<u8>, Failure> {
    let error = Error::new(ErrorKind::Unknown, "this build of deep-tap writes no PNG");
    let help = "build it with its feature 'png', or let the name end in .svg";
    Err(error.with_help(help).at(Place::File(path.to_path_buf())).into())
}
