//! Pictures as SVG, and from that as PNG.

use svg::Document;
use svg::node::element::path::Data;
use svg::node::element::{Path, Rectangle, Text};

use crate::canvas::{Anchor, Drawing, Ground, Ink, Shape};

/// The font that travels with the program, and what stands in for it elsewhere.
const FONTS: &str = "Hack, DejaVu Sans Mono, Menlo, Consolas, monospace";

impl Drawing {
    /// The picture as an SVG document.
    pub fn svg(&self, ground: Ground) -> String {
        let (width, height) = self.size();
        let mut document = Document::new()
            .set("viewBox", (0, 0, width, height))
            .set("width", width)
            .set("height", height)
            .set("font-family", FONTS)
            .add(
                Rectangle::new()
                    .set("width", width)
                    .set("height", height)
                    .set("fill", Ink::Ground.on(ground)),
            );
        for shape in &self.shapes {
            document = match shape {
                Shape::Path { points, closed, stroke, fill, dashed } => {
                    let mut data = Data::new();
                    for (place, (x, y)) in points.iter().enumerate() {
                        let point = (rounded(*x), rounded(*y));
                        data = if place == 0 { data.move_to(point) } else { data.line_to(point) };
                    }
                    if *closed {
                        data = data.close();
                    }
                    let mut path = Path::new().set("d", data);
                    path = match fill {
                        Some((ink, opacity)) => {
                            let path = path.set("fill", ink.on(ground));
                            if *opacity < 1.0 { path.set("fill-opacity", *opacity) } else { path }
                        }
                        None => path.set("fill", "none"),
                    };
                    if let Some((ink, width)) = stroke {
                        path = path.set("stroke", ink.on(ground)).set("stroke-width", *width);
                    }
                    document.add(if *dashed { path.set("stroke-dasharray", "3 3") } else { path })
                }
                Shape::Text { at, text, size, ink, anchor, bold } => {
                    let mut node = Text::new(text.as_str())
                        .set("x", rounded(at.0))
                        .set("y", rounded(at.1))
                        .set("font-size", *size)
                        .set("fill", ink.on(ground));
                    node = match anchor {
                        Anchor::Start => node,
                        Anchor::Middle => node.set("text-anchor", "middle"),
                        Anchor::End => node.set("text-anchor", "end"),
                    };
                    document.add(if *bold { node.set("font-weight", "bold") } else { node })
                }
            };
        }
        document.to_string()
    }
}

/// Two decimals are finer than anything that is drawn.
fn rounded(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

#[cfg(feature = "png")]
mod png {
    use deep_tap_core::{Error, ErrorKind, Result};
    use resvg::{tiny_skia, usvg};

    use super::{Drawing, Ground};

    /// Most pixels of a picture.
    const MOST_PIXELS: u64 = 1 << 28;

    impl Drawing {
        /// The picture as a PNG, `scale` times as large. Its font travels with the program.
        ///
        /// # Errors
        /// When the picture is too large to be drawn.
        pub fn png(&self, ground: Ground, scale: f32) -> Result<Vec<u8>> {
            let mut options = usvg::Options::default();
            options.fontdb_mut().load_font_data(epaint_default_fonts::HACK_REGULAR.to_vec());
            let failed =
                |what: &str| Error::new(ErrorKind::Range, format!("the picture cannot be drawn: {what}"));
            let tree =
                usvg::Tree::from_str(&self.svg(ground), &options).map_err(|e| failed(&e.to_string()))?;
            let size = tree.size();
            let (width, height) =
                ((size.width() * scale).ceil() as u32, (size.height() * scale).ceil() as u32);
            let fits = u64::from(width) * u64::from(height) <= MOST_PIXELS;
            let pixmap = if fits { tiny_skia::Pixmap::new(width, height) } else { None };
            let mut pixmap = pixmap.ok_or_else(|| {
                failed(&format!("{width} x {height} pixels"))
                    .with_help("give a smaller width, or fewer lines")
            })?;
            let transform = tiny_skia::Transform::from_scale(scale, scale);
            resvg::render(&tree, transform, &mut pixmap.as_mut());
            pixmap.encode_png().map_err(|e| failed(&e.to_string()))
        }
    }
}
