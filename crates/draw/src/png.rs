//! Pictures as PNG.

use deep_tap_core::{Error, ErrorKind, Result};
use tiny_skia::{Color, FillRule, Paint, Path, PathBuilder, Pixmap, Stroke, StrokeDash, Transform};
use ttf_parser::{Face, OutlineBuilder};

use crate::canvas::{Anchor, Drawing, Ground, Ink, Shape};

/// Most pixels of a picture.
const MOST_PIXELS: u64 = 1 << 28;
/// How much wider the strokes of a bold letter are, for each unit of its size.
const BOLD: f32 = 0.035;

impl Drawing {
    /// The picture as a PNG, `scale` times as large. Its font travels with the program.
    ///
    /// # Errors
    /// When the picture is too large to be drawn.
    pub fn png(&self, ground: Ground, scale: f32) -> Result<Vec<u8>> {
        let failed = |what: &str| {
            Error::new(ErrorKind::Range, format!("the picture cannot be drawn: {what}"))
                .with_help("give a smaller width, or fewer lines")
        };
        let pixels = |length: f64| (length as f32 * scale).ceil().clamp(0.0, 1e9) as u32;
        let (width, height) = (pixels(self.width), pixels(self.height));
        let fits = u64::from(width) * u64::from(height) <= MOST_PIXELS;
        let pixmap = if fits { Pixmap::new(width, height) } else { None };
        let mut pixmap = pixmap.ok_or_else(|| failed(&format!("{width} x {height} pixels")))?;
        let face = Face::parse(epaint_default_fonts::HACK_REGULAR, 0).map_err(|e| failed(&e.to_string()))?;
        pixmap.fill(colour(Ink::Ground, ground, 1.0));
        let mut page = Page { pixmap, face, ground, transform: Transform::from_scale(scale, scale) };
        for shape in &self.shapes {
            page.draw(shape);
        }
        page.pixmap.encode_png().map_err(|e| failed(&e.to_string()))
    }
}

struct Page<'a> {
    pixmap: Pixmap,
    face: Face<'a>,
    ground: Ground,
    transform: Transform,
}

impl Page<'_> {
    fn draw(&mut self, shape: &Shape) {
        match shape {
            Shape::Path { points, closed, stroke, fill, dashed } => {
                let Some(path) = path(points, *closed) else { return };
                if let Some((ink, opacity)) = fill {
                    self.fill(&path, *ink, *opacity as f32);
                }
                if let Some((ink, width)) = stroke {
                    self.stroke(&path, *ink, *width as f32, *dashed);
                }
            }
            Shape::Text { at, text, size, ink, anchor, bold } => {
                let Some(path) = self.letters(text, (at.0 as f32, at.1 as f32), *size as f32, *anchor) else {
                    return;
                };
                self.fill(&path, *ink, 1.0);
                if *bold {
                    self.stroke(&path, *ink, *size as f32 * BOLD, false);
                }
            }
        }
    }

    fn paint(&self, ink: Ink, opacity: f32) -> Paint<'static> {
        let mut paint = Paint { anti_alias: true, ..Paint::default() };
        paint.set_color(colour(ink, self.ground, opacity));
        paint
    }

    fn fill(&mut self, path: &Path, ink: Ink, opacity: f32) {
        let paint = self.paint(ink, opacity);
        self.pixmap.fill_path(path, &paint, FillRule::Winding, self.transform, None);
    }

    fn stroke(&mut self, path: &Path, ink: Ink, width: f32, dashed: bool) {
        let dash = if dashed { StrokeDash::new(vec![3.0, 3.0], 0.0) } else { None };
        let stroke = Stroke { width, dash, ..Stroke::default() };
        let paint = self.paint(ink, 1.0);
        self.pixmap.stroke_path(path, &paint, &stroke, self.transform, None);
    }

    /// The outlines of a text; a character that the font does not have leaves a gap.
    fn letters(&self, text: &str, at: (f32, f32), size: f32, anchor: Anchor) -> Option<Path> {
        let scale = size / f32::from(self.face.units_per_em());
        let glyphs: Vec<_> = text.chars().map(|c| self.face.glyph_index(c).unwrap_or_default()).collect();
        let advance = |glyph| f32::from(self.face.glyph_hor_advance(glyph).unwrap_or(0)) * scale;
        let width: f32 = glyphs.iter().map(|glyph| advance(*glyph)).sum();
        let begin = match anchor {
            Anchor::Start => at.0,
            Anchor::Middle => at.0 - width / 2.0,
            Anchor::End => at.0 - width,
        };
        let mut outline = Outline { path: PathBuilder::new(), scale, x: begin, y: at.1 };
        for glyph in glyphs {
            self.face.outline_glyph(glyph, &mut outline);
            outline.x += advance(glyph);
        }
        outline.path.finish()
    }
}

fn path(points: &[(f64, f64)], closed: bool) -> Option<Path> {
    let mut path = PathBuilder::new();
    for (place, (x, y)) in points.iter().enumerate() {
        let (x, y) = (*x as f32, *y as f32);
        if place == 0 { path.move_to(x, y) } else { path.line_to(x, y) }
    }
    if closed {
        path.close();
    }
    path.finish()
}

/// A colour of the form `#rrggbb`.
fn colour(ink: Ink, ground: Ground, opacity: f32) -> Color {
    let bits = u32::from_str_radix(ink.on(ground).trim_start_matches('#'), 16).unwrap_or(0);
    let part = |shift: u32| (bits >> shift & 0xff) as f32 / 255.0;
    let whole = (part(16), part(8), part(0), opacity.clamp(0.0, 1.0));
    Color::from_rgba(whole.0, whole.1, whole.2, whole.3).unwrap_or(Color::BLACK)
}

/// Takes a glyph's outline in, whose y grows upwards.
struct Outline {
    path: PathBuilder,
    scale: f32,
    x: f32,
    y: f32,
}

impl Outline {
    fn at(&self, x: f32, y: f32) -> (f32, f32) {
        (self.x + x * self.scale, self.y - y * self.scale)
    }
}

impl OutlineBuilder for Outline {
    fn move_to(&mut self, x: f32, y: f32) {
        let (x, y) = self.at(x, y);
        self.path.move_to(x, y);
    }

    fn line_to(&mut self, x: f32, y: f32) {
        let (x, y) = self.at(x, y);
        self.path.line_to(x, y);
    }

    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        let ((x1, y1), (x, y)) = (self.at(x1, y1), self.at(x, y));
        self.path.quad_to(x1, y1, x, y);
    }

    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        let ((x1, y1), (x2, y2), (x, y)) = (self.at(x1, y1), self.at(x2, y2), self.at(x, y));
        self.path.cubic_to(x1, y1, x2, y2, x, y);
    }

    fn close(&mut self) {
        self.path.close();
    }
}
