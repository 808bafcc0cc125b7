//! Pictures as SVG.

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
