//! Pictures as SVG.

use deep_tap_core::printable;
use svg::Document;
use svg::node::element::path::Data;
use svg::node::element::{Path, Rectangle, Text};

use crate::canvas::{Anchor, Drawing, Ground, Ink, Shape};

/// The font that travels with the program, and what stands in for it elsewhere.
const FONTS: &str = "Hack, DejaVu Sans Mono, Menlo, Consolas, monospace";

/// What says the colour of a shape.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Colours {
    /// The drawing, on a ground.
    Own(Ground),
    /// Whatever it is part of, by the names of the inks.
    Named,
}

impl Colours {
    fn of(self, ink: Ink) -> String {
        match self {
            Colours::Own(ground) => ink.on(ground).to_string(),
            Colours::Named => format!("var(--{})", ink.name()),
        }
    }
}

impl Drawing {
    /// The picture as an SVG document, `scale` times as large.
    pub fn svg(&self, ground: Ground, scale: f32) -> String {
        let (width, height) = self.size();
        let large = |length: u32| (f64::from(length) * f64::from(scale)).ceil();
        let whole = Rectangle::new().set("width", width).set("height", height);
        let ground_of = whole.set("fill", Ink::Ground.on(ground));
        let document = self.document().set("width", large(width)).set("height", large(height)).add(ground_of);
        self.drawn(document, Colours::Own(ground)).to_string()
    }

    /// The picture as an element of a page, as wide as there is room, in the colours of the page:
    /// [`page_colours`](Drawing::page_colours) are its own. `said` is what the picture shows, in words.
    pub fn page_svg(&self, said: &str) -> String {
        let said = printable(said).replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
        let document = self.document().set("role", "img").set("aria-label", said);
        let text = self.drawn(document, Colours::Named).to_string();
        // In a page, the name space is known.
        text.replace(" xmlns=\"http://www.w3.org/2000/svg\"", "").replace(">\n<", "><")
    }

    /// The colours of a picture in a page, as declarations of a style sheet.
    pub fn page_colours(ground: Ground) -> String {
        let declared = Ink::ALL.iter().map(|ink| format!("--{}:{};", ink.name(), ink.on(ground)));
        declared.collect()
    }

    fn document(&self) -> Document {
        let (width, height) = self.size();
        Document::new().set("viewBox", (0, 0, width, height)).set("font-family", FONTS)
    }

    fn drawn(&self, mut document: Document, colours: Colours) -> Document {
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
                            let path = path.set("fill", colours.of(*ink));
                            if *opacity < 1.0 { path.set("fill-opacity", *opacity) } else { path }
                        }
                        None => path.set("fill", "none"),
                    };
                    if let Some((ink, width)) = stroke {
                        path = path.set("stroke", colours.of(*ink)).set("stroke-width", *width);
                    }
                    document.add(if *dashed { path.set("stroke-dasharray", "3 3") } else { path })
                }
                Shape::Text { at, text, size, ink, anchor, bold } => {
                    let mut node = Text::new(text.as_str())
                        .set("x", rounded(at.0))
                        .set("y", rounded(at.1))
                        .set("font-size", *size)
                        .set("fill", colours.of(*ink));
                    node = match anchor {
                        Anchor::Start => node,
                        Anchor::Middle => node.set("text-anchor", "middle"),
                        Anchor::End => node.set("text-anchor", "end"),
                    };
                    document.add(if *bold { node.set("font-weight", "bold") } else { node })
                }
            };
        }
        document
    }
}

/// Two decimals are finer than anything that is drawn.
fn rounded(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}
