//! A serial bus: a protocol with the lines it is spoken on.

use std::ops::Range;

use super::{Frames, Protocol};
use crate::bus::{Decoder, FrameSink};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::line::LineId;
use crate::time::{Tick, TimeBase};

/// A serial bus, with a line for each role of its protocol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialBus {
    name: String,
    protocol: Protocol,
    lines: Vec<LineId>,
}

impl SerialBus {
    /// A bus with its lines by their [roles](Protocol::roles), in any order.
    ///
    /// ```
    /// use deep_tap_core::decode::{I2cConfig, Protocol, SerialBus};
    /// use deep_tap_core::line::LineId;
    ///
    /// let protocol = Protocol::I2c(I2cConfig::default());
    /// let bus = SerialBus::new("rtc", protocol.clone(), [("data", LineId(0)), ("clock", LineId(1))])?;
    /// assert_eq!(bus.line("clock"), Some(LineId(1)));
    /// let error = SerialBus::new("rtc", protocol, [("data", LineId(0))]).unwrap_err();
    /// assert!(error.message().contains("clock"), "{error}");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// When a role has no line or two, or the protocol has no such role.
    pub fn new<'r>(
        name: impl Into<String>,
        protocol: Protocol,
        lines: impl IntoIterator<Item = (&'r str, LineId)>,
    ) -> Result<Self> {
        let name = name.into();
        let roles = protocol.roles();
        let wrong =
            |message: String, help: String| Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        let mut placed: Vec<Option<LineId>> = vec![None; roles.len()];
        for (role, line) in lines {
            let Some(place) = roles.iter().position(|known| known == role) else {
                let help = suggest(role, roles.iter().map(String::as_str), "line of this bus");
                return wrong(format!("bus '{name}' ({}) has no line '{role}'", protocol.name()), help);
            };
            if placed[place].replace(line).is_some() {
                let message = format!("bus '{name}' has two lines '{role}'");
                return wrong(message, "give each role one line".to_string());
            }
        }
        if let Some(role) = roles.iter().zip(&placed).find_map(|(role, line)| line.is_none().then_some(role))
        {
            let message = format!("bus '{name}' ({}) has no line for its '{role}'", protocol.name());
            return wrong(message, format!("its lines are: {}", roles.join(", ")));
        }
        Ok(SerialBus { name, protocol, lines: placed.into_iter().flatten().collect() })
    }

    /// A bus with its lines in the order of its protocol's [roles](Protocol::roles).
    ///
    /// # Errors
    /// When there are more lines or fewer than roles.
    pub fn of_lines(name: impl Into<String>, protocol: Protocol, lines: Vec<LineId>) -> Result<Self> {
        let name = name.into();
        let roles = protocol.roles();
        check_count(&name, &roles, lines.len())?;
        Ok(SerialBus { name, protocol, lines })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What is spoken on it.
    pub fn protocol(&self) -> &Protocol {
        &self.protocol
    }

    /// The same lines with another protocol that has as many.
    ///
    /// # Errors
    /// When the protocol has more lines or fewer.
    pub fn with_protocol(&self, protocol: Protocol) -> Result<Self> {
        SerialBus::of_lines(self.name.clone(), protocol, self.lines.clone())
    }

    /// Its lines, in the order of its protocol's roles: that of its decoder.
    pub fn lines(&self) -> &[LineId] {
        &self.lines
    }

    /// The line that has this role.
    pub fn line(&self, role: &str) -> Option<LineId> {
        let place = self.protocol.roles().iter().position(|known| known == role)?;
        self.lines.get(place).copied()
    }

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// As [`Protocol::decoder`], with the bus's name.
    pub fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        self.protocol.decoder(base).map_err(|error| error.about(format!("bus '{}'", self.name)))
    }

    /// Decodes a stretch of a stored capture, until the sink says stop.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn decode(&self, capture: &Capture, range: Range<Tick>, sink: &mut dyn FrameSink) -> Result<()> {
        let mut decoder = self.decoder(capture.base())?;
        super::decode(capture, &self.lines, range, &mut *decoder, sink)
    }

    /// The frames of a stretch of a stored capture, one after the other as they are asked for.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn frames<'a>(&self, capture: &'a Capture, range: Range<Tick>) -> Result<Frames<'a>> {
        Frames::new(capture, &self.lines, range, self.decoder(capture.base())?)
    }
}

fn check_count(name: &str, roles: &[String], lines: usize) -> Result<()> {
    if lines == roles.len() {
        return Ok(());
    }
    let message = format!("bus '{name}' takes {} lines, not {lines}", roles.len());
    Err(Error::new(ErrorKind::Unknown, message).with_help(format!("its lines are: {}", roles.join(", "))))
}
