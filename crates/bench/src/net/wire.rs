//! The connection of a client: messages out, answers and blocks in, and what has gone wrong with it.

use std::io::{BufRead, BufReader, ErrorKind as Io, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::time::Duration;

use deep_tap_core::{Error, ErrorKind, Result};

use super::message::{short, split, string};
use super::{HELP, PORT};

/// How long a client waits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Timeouts {
    /// For a connection.
    pub connect: Duration,
    /// For the next bytes of an answer.
    pub answer: Duration,
}

impl Default for Timeouts {
    /// 3 s and 10 s.
    fn default() -> Self {
        Timeouts { connect: Duration::from_secs(3), answer: Duration::from_secs(10) }
    }
}

/// Longest answer that is not a block, and longest block, that is believed.
pub(super) const LONGEST_ANSWER: u64 = 1 << 20;
pub(super) const LONGEST_BLOCK: u64 = 1 << 28;

/// A connection to a server.
#[derive(Debug)]
pub(super) struct Wire {
    pub(super) reader: BufReader<TcpStream>,
    pub(super) host: String,
    timeouts: Timeouts,
    /// Samples that have arrived since the instrument was armed.
    pub(super) arrived: u64,
    /// What broke the connection, once it did, and what to do about it.
    pub(super) broken: Option<(String, String)>,
}

impl Wire {
    pub(super) fn connect(address: &str, timeouts: Timeouts) -> Result<Self> {
        let host = match address.rsplit_once(':') {
            Some((_, port)) if port.parse::<u16>().is_ok() && !address.ends_with(']') => address.to_string(),
            _ => format!("{address}:{PORT}"),
        };
        let link = |message: String, help: &str| Error::new(ErrorKind::Link, message).with_help(help);
        let found = host.to_socket_addrs().map_err(|error| {
            link(format!("there is no host '{address}': {error}"), "write tcp://HOST or tcp://HOST:PORT")
        })?;
        let mut refused = None;
        let stream =
            found.into_iter().find_map(|at| match TcpStream::connect_timeout(&at, timeouts.connect) {
                Ok(stream) => Some(stream),
                Err(error) => {
                    refused = Some(error);
                    None
                }
            });
        let Some(stream) = stream else {
            let why = match refused {
                Some(error) if matches!(error.kind(), Io::TimedOut | Io::WouldBlock) => {
                    format!("no answer within {:?}", timeouts.connect)
                }
                Some(error) => error.to_string(),
                None => "it has no address".to_string(),
            };
            let help = "is it switched on and served (deep-tap serve)? check host, port and firewall";
            return Err(link(format!("cannot connect to {host}: {why}"), help));
        };
        let set = stream.set_read_timeout(Some(timeouts.answer));
        let set = set.and_then(|()| stream.set_write_timeout(Some(timeouts.answer)));
        let set = set.and_then(|()| stream.set_nodelay(true));
        set.map_err(|error| link(format!("cannot use the connection to {host}: {error}"), "try again"))?;
        Ok(Wire { reader: BufReader::new(stream), host, timeouts, arrived: 0, broken: None })
    }

    /// The connection cannot be used any more.
    pub(super) fn broke(&mut self, error: &std::io::Error) -> Error {
        let timed_out = matches!(error.kind(), Io::WouldBlock | Io::TimedOut);
        let arrived = match self.arrived {
            0 => String::new(),
            samples => format!("; {samples} samples had arrived"),
        };
        let (what, help) = match timed_out {
            true => (
                format!("{} does not answer within {:?}{arrived}", self.host, self.timeouts.answer),
                "is it still running? connect again".to_string(),
            ),
            false => (
                format!("the connection to {} dropped{arrived}", self.host),
                "check the network and that it is still running, and record again".to_string(),
            ),
        };
        self.broken = Some((what.clone(), help.clone()));
        Error::new(ErrorKind::Link, what).with_help(help)
    }

    pub(super) fn send(&mut self, message: &str) -> Result<()> {
        if let Some((what, help)) = &self.broken {
            return Err(Error::new(ErrorKind::Link, what.clone()).with_help(help.clone()));
        }
        let line = format!("{message}\n");
        self.reader.get_mut().write_all(line.as_bytes()).map_err(|error| self.broke(&error))
    }

    /// The rest of an answer, up to its line feed.
    pub(super) fn line(&mut self) -> Result<String> {
        let mut line = Vec::new();
        let read = (&mut self.reader).take(LONGEST_ANSWER).read_until(b'\n', &mut line);
        match read {
            Ok(_) if line.ends_with(b"\n") => {
                line.pop();
                Ok(String::from_utf8_lossy(&line).trim_end_matches('\r').to_string())
            }
            Ok(_) => Err(self.broke(&Io::UnexpectedEof.into())),
            Err(error) => Err(self.broke(&error)),
        }
    }

    /// Sends a query; its answer, or the error that it led to.
    pub(super) fn ask(&mut self, query: &str) -> Result<String> {
        self.send(&format!("{query};:SYSTem:ERRor?"))?;
        let line = self.line()?;
        let parts = split(&line, ';');
        match parts.split_last() {
            Some((error, answer)) => {
                self.judge(error)?;
                Ok(answer.join(";"))
            }
            None => Err(self.strange(&line)),
        }
    }

    /// Sends a command, and the error that it led to.
    pub(super) fn command(&mut self, command: &str) -> Result<()> {
        self.ask(command).map(drop)
    }

    /// What an answer to `SYSTem:ERRor?` says.
    pub(super) fn judge(&self, error: &str) -> Result<()> {
        let Some((number, words)) = error.split_once(',') else { return Err(self.strange(error)) };
        let number: i32 = number.trim().parse().map_err(|_| self.strange(error))?;
        if number == 0 {
            return Ok(());
        }
        let words = string(words.trim()).unwrap_or_else(|| words.to_string());
        let detail = words.split_once(';').map_or(words.as_str(), |(_, detail)| detail);
        let (message, help) = detail.split_once(HELP).unwrap_or((detail, ""));
        let help = match (help, number) {
            ("", -203) => "another client is recording with it: wait until it has gone",
            ("", _) => "docs/network.md lists the commands",
            (help, _) => help,
        };
        let message =
            if number == -203 { format!("{} is {message}", self.host) } else { message.to_string() };
        Err(Error::new(ErrorKind::Instrument, message).with_help(help))
    }

    pub(super) fn strange(&self, answer: &str) -> Error {
        Error::new(
            ErrorKind::Link,
            format!("{} answers '{}', which is not understood", self.host, short(answer)),
        )
        .with_help("use a deep-tap of the same age on both sides")
    }

    pub(super) fn byte(&mut self) -> Result<u8> {
        let mut byte = [0];
        self.reader.read_exact(&mut byte).map_err(|error| self.broke(&error))?;
        Ok(byte[0])
    }

    /// The length of a definite length block, whose first character has been read.
    pub(super) fn length(&mut self, most: u64) -> Result<u64> {
        let digits = self.byte()?;
        let mut length = 0u64;
        for _ in 0..digits.saturating_sub(b'0').min(9) {
            match self.byte()? {
                digit @ b'0'..=b'9' => length = length * 10 + u64::from(digit - b'0'),
                _ => return Err(self.strange("#")),
            }
        }
        if !(b'1'..=b'9').contains(&digits) || length > most {
            return Err(self.strange(&format!("a block of {length} bytes")));
        }
        Ok(length)
    }

    /// A whole block.
    pub(super) fn block(&mut self, most: u64) -> Result<Vec<u8>> {
        match self.byte()? {
            b'#' => {
                let length = self.length(most)?;
                let mut bytes = Vec::new();
                let read = (&mut self.reader).take(length).read_to_end(&mut bytes);
                match read {
                    Ok(_) if bytes.len() as u64 == length => Ok(bytes),
                    Ok(_) => Err(self.broke(&Io::UnexpectedEof.into())),
                    Err(error) => Err(self.broke(&error)),
                }
            }
            // An error and no block.
            first => {
                let rest = self.line()?;
                let whole = format!("{}{rest}", char::from(first));
                Err(self.judge(&whole).err().unwrap_or_else(|| self.strange(&whole)))
            }
        }
    }

    /// The end of an answer.
    pub(super) fn end(&mut self) -> Result<()> {
        match self.line()?.as_str() {
            "" => Ok(()),
            more => Err(self.strange(more)),
        }
    }
}
