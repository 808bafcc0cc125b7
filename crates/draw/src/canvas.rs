//! What a picture is made of: paths and texts, each in an ink, before they become a file.

use deep_tap_core::printable;

/// The ground that a picture is drawn on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Ground {
    /// Dark inks on light ground.
    #[default]
    Light,
    /// Light inks on dark ground.
    Dark,
}

/// What a shape means; the ground decides on its colour. The colours differ for every kind of colour
/// vision, and none is the only carrier of a meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ink {
    /// The ground itself.
    Ground,
    /// Names, values, the axis.
    Text,
    /// What is said besides.
    Faint,
    /// Lines of the grid.
    Grid,
    /// Levels of lines.
    Signal,
    /// Values of buses: outline and filling.
    Bus,
    BusFill,
    /// Frames and fields.
    Frame,
    FrameFill,
    /// Voltages.
    Analog,
    AnalogFill,
    /// Places with names.
    Marker,
    /// What is violated, or a fault.
    Bad,
    BadFill,
    /// What is measured, and kept.
    Measure,
    /// What is unknown.
    Unknown,
}

impl Ink {
    pub(crate) const ALL: [Ink; 16] = [
        Ink::Ground,
        Ink::Text,
        Ink::Faint,
        Ink::Grid,
        Ink::Signal,
        Ink::Bus,
        Ink::BusFill,
        Ink::Frame,
        Ink::FrameFill,
        Ink::Analog,
        Ink::AnalogFill,
        Ink::Marker,
        Ink::Bad,
        Ink::BadFill,
        Ink::Measure,
        Ink::Unknown,
    ];

    /// Its name in a style sheet.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Ink::Ground => "ground",
            Ink::Text => "text",
            Ink::Faint => "faint",
            Ink::Grid => "grid",
            Ink::Signal => "signal",
            Ink::Bus => "bus",
            Ink::BusFill => "bus-fill",
            Ink::Frame => "frame",
            Ink::FrameFill => "frame-fill",
            Ink::Analog => "analog",
            Ink::AnalogFill => "analog-fill",
            Ink::Marker => "marker",
            Ink::Bad => "bad",
            Ink::BadFill => "bad-fill",
            Ink::Measure => "measure",
            Ink::Unknown => "unknown",
        }
    }

    /// The colour on a ground.
    pub(crate) fn on(self, ground: Ground) -> &'static str {
        let (light, dark) = match self {
            Ink::Ground => ("#fbfbf8", "#16191d"),
            Ink::Text => ("#1d2126", "#e6e8ea"),
            Ink::Faint => ("#666d75", "#9aa3ac"),
            Ink::Grid => ("#e1e2dd", "#2b3037"),
            Ink::Signal => ("#22313f", "#cfd8df"),
            Ink::Bus => ("#2a5f9e", "#7fb2ec"),
            Ink::BusFill => ("#e3edf8", "#1d2e43"),
            Ink::Frame => ("#6a4c93", "#c3a6ea"),
            Ink::FrameFill => ("#eee8f6", "#2c2440"),
            Ink::Analog => ("#0b6e5f", "#58c9b3"),
            Ink::AnalogFill => ("#cfe8e2", "#12403a"),
            Ink::Marker => ("#8a6100", "#e2b64a"),
            Ink::Bad => ("#b83a0e", "#ff8a5c"),
            Ink::BadFill => ("#fbe3d9", "#4a2214"),
            Ink::Measure => ("#2a5f9e", "#7fb2ec"),
            Ink::Unknown => ("#8b8f94", "#747b83"),
        };
        match ground {
            Ground::Light => light,
            Ground::Dark => dark,
        }
    }
}

/// Where a text stands from its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Anchor {
    Start,
    Middle,
    End,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Shape {
    Path {
        points: Vec<(f64, f64)>,
        closed: bool,
        stroke: Option<(Ink, f64)>,
        fill: Option<(Ink, f64)>,
        dashed: bool,
    },
    Text {
        at: (f64, f64),
        text: String,
        size: f64,
        ink: Ink,
        anchor: Anchor,
        bold: bool,
    },
}

impl Shape {
    /// The same so much lower.
    fn moved(self, down: f64) -> Shape {
        match self {
            Shape::Path { points, closed, stroke, fill, dashed } => {
                let points = points.into_iter().map(|(x, y)| (x, y + down)).collect();
                Shape::Path { points, closed, stroke, fill, dashed }
            }
            Shape::Text { at, text, size, ink, anchor, bold } => {
                Shape::Text { at: (at.0, at.1 + down), text, size, ink, anchor, bold }
            }
        }
    }
}

/// How wide a text of this many characters is, per unit of size: the font has one width for all.
pub(crate) const ADVANCE: f64 = 0.602;

/// A picture as shapes, for [`svg`](Drawing::svg) and, with the feature `png`, `png`.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawing {
    pub(crate) width: f64,
    pub(crate) height: f64,
    pub(crate) shapes: Vec<Shape>,
}

impl Drawing {
    pub(crate) fn new(width: f64, height: f64) -> Self {
        Drawing { width, height, shapes: Vec::new() }
    }

    /// Width and height in pixels.
    pub fn size(&self) -> (u32, u32) {
        (self.width.ceil() as u32, self.height.ceil() as u32)
    }

    /// Several pictures in one, each below the one before.
    ///
    /// ```
    /// use deep_tap_core::measure::Distribution;
    /// use deep_tap_core::quantity::Time;
    /// use deep_tap_draw::{Drawing, Histogram};
    ///
    /// let widths: Distribution = [4, 5, 5].into_iter().collect();
    /// let histogram = Histogram::of_times(&widths.histogram(10), Time::from_ps(1000)).draw("widths", 600);
    /// let both = Drawing::stacked([histogram.clone(), histogram.clone()]);
    /// assert_eq!(both.size().1, 2 * histogram.size().1);
    /// ```
    pub fn stacked(drawings: impl IntoIterator<Item = Drawing>) -> Drawing {
        let mut all = Drawing::new(0.0, 0.0);
        for drawing in drawings {
            let down = all.height;
            all.width = all.width.max(drawing.width);
            all.height += drawing.height;
            all.shapes.extend(drawing.shapes.into_iter().map(|shape| shape.moved(down)));
        }
        all
    }

    pub(crate) fn line(&mut self, points: Vec<(f64, f64)>, ink: Ink, width: f64) {
        self.shapes.push(Shape::Path {
            points,
            closed: false,
            stroke: Some((ink, width)),
            fill: None,
            dashed: false,
        });
    }

    pub(crate) fn dashes(&mut self, from: (f64, f64), to: (f64, f64), ink: Ink) {
        self.shapes.push(Shape::Path {
            points: vec![from, to],
            closed: false,
            stroke: Some((ink, 1.0)),
            fill: None,
            dashed: true,
        });
    }

    pub(crate) fn polygon(&mut self, points: Vec<(f64, f64)>, stroke: Option<Ink>, fill: (Ink, f64)) {
        let stroke = stroke.map(|ink| (ink, 1.2));
        self.shapes.push(Shape::Path { points, closed: true, stroke, fill: Some(fill), dashed: false });
    }

    pub(crate) fn rectangle(
        &mut self,
        from: (f64, f64),
        to: (f64, f64),
        stroke: Option<Ink>,
        fill: (Ink, f64),
    ) {
        self.polygon(vec![from, (to.0, from.1), to, (from.0, to.1)], stroke, fill);
    }

    pub(crate) fn text(
        &mut self,
        at: (f64, f64),
        text: impl Into<String>,
        size: f64,
        ink: Ink,
        anchor: Anchor,
    ) {
        let text = text.into();
        if !text.is_empty() {
            let text = printable(&text).into_owned();
            self.shapes.push(Shape::Text { at, text, size, ink, anchor, bold: false });
        }
    }

    pub(crate) fn bold(&mut self, at: (f64, f64), text: impl Into<String>, size: f64, ink: Ink) {
        let text = printable(&text.into()).into_owned();
        self.shapes.push(Shape::Text { at, text, size, ink, anchor: Anchor::Start, bold: true });
    }
}

/// The width of a text in pixels.
pub(crate) fn text_width(text: &str, size: f64) -> f64 {
    text.chars().count() as f64 * size * ADVANCE
}
