//! How well instants are known, and the intervals between them.
//!
//! A sampled edge first seen at tick `k` happened in `(k-1, k]`, moved by its input's share of the
//! skew, and by what its own line adds (an analog crossing's spread, a derived line's). So every
//! interval has bounds; and no other module works them out:
//!
//! - [`Precision`] is what a record says about its instants, seen under a [`Rule`];
//! - [`Instants`] says what the instants of an event are read from;
//! - [`Span`] is what both make of the intervals between two kinds of instants: their
//!   [bounds](Span::bounds), [shares](Span::share), and whether the order is certain;
//! - [`Hiding`] is why a line may have had pulses that the record does not show;
//! - [`Precedence`] says within how many ticks edges may have come in another order.
//!
//! ```
//! use deep_tap_core::capture::{Capture, TraceBuilder};
//! use deep_tap_core::known::{Instants, Precision, Rule};
//! use deep_tap_core::line::{Level, Line, LineId};
//! use deep_tap_core::time::TimeBase;
//!
//! let capture = Capture::builder(TimeBase::from_rate("100 MS/s".parse()?)?, 100)
//!     .line(Line::named("WE_N"), TraceBuilder::new(Level::High).finish(100))
//!     .build()?;
//! let edges = Instants::edges_of(LineId(0));
//! // A pulse of four ticks of 10 ns: its true width lies between 30 ns and 50 ns.
//! let span = Precision::of(&capture, Rule::Proven).among(&edges);
//! let bounds = span.bounds(4).unwrap();
//! assert_eq!((bounds.lo.to_string(), bounds.hi.unwrap().to_string()), ("30 ns".into(), "50 ns".into()));
//! assert!(bounds.lo_exclusive && bounds.hi_exclusive);
//! // The counted value taken for the true one.
//! let span = Precision::of(&capture, Rule::Measured).among(&edges);
//! assert_eq!(span.bounds(4).unwrap().lo.to_string(), "40 ns");
//! # Ok::<(), deep_tap_core::Error>(())
//! ```

mod hiding;
mod instants;
mod precedence;
mod precision;
mod rule;
mod span;

pub use hiding::{Hiding, hiding_lines};
pub use instants::Instants;
pub use precedence::Precedence;
pub use precision::{PlannedLine, Precision};
pub use rule::Rule;
pub(crate) use span::BEYOND;
pub use span::Span;
