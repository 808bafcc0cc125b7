//! A serial bus: a protocol with the lines it is spoken on.

use std::ops::Range;
use std::sync::Arc;

use super::run::Onward;
use super::transfers::Gathering;
use super::window::{Reading, Reads};
use super::{FieldNames, Frames, Protocol, TransferEnds};
use crate::bus::{Decoder, FrameSink};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::known::{Precedence, Precision, Rule};
use crate::line::{LineId, Signal};
use crate::quantity::Voltage;
use crate::time::{Tick, TimeBase};

/// A serial bus, with a line for each role of its protocol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialBus {
    name: String,
    protocol: Protocol,
    lines: Vec<LineId>,
    ends: TransferEnds,
    names: Arc<FieldNames>,
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
        let lines = placed.into_iter().flatten().collect();
        Ok(SerialBus { name, protocol, lines, ends: TransferEnds::default(), names: Arc::default() })
    }

    /// A bus with its lines in the order of its protocol's [roles](Protocol::roles).
    ///
    /// # Errors
    /// When there are more lines or fewer than roles.
    pub fn of_lines(name: impl Into<String>, protocol: Protocol, lines: Vec<LineId>) -> Result<Self> {
        let name = name.into();
        let roles = protocol.roles();
        check_count(&name, &roles, lines.len())?;
        Ok(SerialBus { name, protocol, lines, ends: TransferEnds::default(), names: Arc::default() })
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
        let bus = SerialBus::of_lines(self.name.clone(), protocol, self.lines.clone())?;
        Ok(SerialBus { ends: self.ends, names: Arc::clone(&self.names), ..bus })
    }

    /// The same with other ends of its transfers.
    #[must_use]
    pub fn with_transfer_ends(self, ends: TransferEnds) -> Self {
        SerialBus { ends, ..self }
    }

    /// The same with names of its fields' values.
    #[must_use]
    pub fn with_names(self, names: FieldNames) -> Self {
        SerialBus { names: Arc::new(names), ..self }
    }

    /// Names of its fields' values.
    pub fn names(&self) -> &FieldNames {
        &self.names
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

    /// Whether each of its transfers is a frame with one value of data.
    pub fn carries_one_value(&self) -> bool {
        let single = matches!(
            self.protocol,
            Protocol::Parallel(_) | Protocol::I2s(_) | Protocol::Mdio | Protocol::Swd
        );
        single && self.ends == TransferEnds::default()
    }

    /// A decoder for records with this time base.
    ///
    /// # Errors
    /// As [`Protocol::decoder`], with the bus's name.
    pub fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        self.protocol.decoder(base).map_err(|error| error.about(format!("bus '{}'", self.name)))
    }

    /// The same for transfers: frames that belong together, each as one.
    ///
    /// # Errors
    /// As [`decoder`](SerialBus::decoder).
    pub fn transfer_decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        Ok(Gathering::gather(self.decoder(base)?, &self.protocol, self.ends, base, 0))
    }

    /// The same with which of them are certain, in a record whose edges have this order.
    pub(crate) fn proving_transfers(&self, base: TimeBase, order: Precedence) -> Result<Box<dyn Decoder>> {
        let decoder = self.protocol.proving(base, order, false);
        let decoder = decoder.map_err(|error| error.about(format!("bus '{}'", self.name)))?;
        Ok(Gathering::gather(decoder, &self.protocol, self.ends, base, margin(order)))
    }

    /// Decodes a window of a stored capture, until the sink says stop. It gets what lies in the window:
    /// frames at least in part, marks (`sample` excepted) with their tick, and of both whether they are
    /// certain. A window never changes what is read: frames are those of the whole record.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn decode(&self, capture: &Capture, window: Range<Tick>, sink: &mut dyn FrameSink) -> Result<()> {
        self.reading(capture, window, Reads::Frames, sink)?.finish(sink);
        Ok(())
    }

    /// The frames of a stored capture that lie in a window, at least in part, one after the other as they
    /// are asked for; as [`decode`](SerialBus::decode) gives them.
    ///
    /// # Errors
    /// When the settings are wrong, or the record too slow for them.
    pub fn frames<'a>(&self, capture: &'a Capture, window: Range<Tick>) -> Result<Frames<'a>> {
        Frames::new(|ready| self.reading(capture, window, Reads::Frames, ready))
    }

    /// The same for transfers: frames that belong together, each as one.
    ///
    /// # Errors
    /// As [`frames`](SerialBus::frames).
    pub fn transfers<'a>(&self, capture: &'a Capture, window: Range<Tick>) -> Result<Frames<'a>> {
        Frames::new(|ready| self.reading(capture, window, Reads::Transfers, ready))
    }

    /// Begins to read a window; what is found on the way to where it can be read goes to the sink.
    pub(crate) fn reading<'a>(
        &self,
        capture: &'a Capture,
        window: Range<Tick>,
        reads: Reads,
        sink: &mut dyn FrameSink,
    ) -> Result<Reading<'a>> {
        Reading::begin(capture, &self.lines, window, || self.proving(capture, reads), sink)
    }

    /// Reads a record like this that goes on, from its first tick on.
    pub(crate) fn onward(&self, capture: &Capture, reads: Reads) -> Result<Onward> {
        Onward::new(self.proving(capture, reads)?, &self.lines)
    }

    /// A decoder that says how certain is what it finds in a record like this.
    fn proving(&self, capture: &Capture, reads: Reads) -> Result<Box<dyn Decoder>> {
        let signals: Vec<Signal> = self.lines.iter().map(Signal::from).collect();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let base = capture.base();
        let decoder = self.protocol.proving(base, order, reads == Reads::Samples);
        let decoder = decoder.map_err(|error| error.about(format!("bus '{}'", self.name)))?;
        Ok(match reads {
            Reads::Transfers => Gathering::gather(decoder, &self.protocol, self.ends, base, margin(order)),
            Reads::Frames | Reads::Samples => decoder,
        })
    }
}

/// Within how many ticks it is not known how long a rest was: both of its ends lie between ticks.
fn margin(order: Precedence) -> u64 {
    order.reach().unwrap_or(0).saturating_add(2)
}

fn check_count(name: &str, roles: &[String], lines: usize) -> Result<()> {
    if lines == roles.len() {
        return Ok(());
    }
    let message = format!("bus '{name}' takes {} lines, not {lines}", roles.len());
    Err(Error::new(ErrorKind::Unknown, message).with_help(format!("its lines are: {}", roles.join(", "))))
}
