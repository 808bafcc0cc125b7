//! A text on a screen of its own, renewed in place.

#[cfg(not(feature = "view"))]
mod none;
#[cfg(feature = "view")]
mod terminal;
#[cfg(all(test, feature = "view"))]
mod tests;

#[cfg(not(feature = "view"))]
pub(crate) use none::Screen;
#[cfg(feature = "view")]
pub(crate) use terminal::Screen;
