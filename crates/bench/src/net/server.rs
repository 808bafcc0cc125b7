//! Serving an instrument.

use std::io::{ErrorKind as Io, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, ToSocketAddrs};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, TryLockError};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use deep_tap_core::instrument::{Instrument, Status};
use deep_tap_core::{Error, ErrorKind, Result};

use super::message::ScpiError;
use super::session::{Desk, Session};

/// What a server allows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ServerOptions {
    /// Most clients at once.
    pub clients: usize,
    /// Longest message in bytes.
    pub line: usize,
    /// How long a client may take to read an answer before it is dropped.
    pub patience: Duration,
    /// How long a client may say nothing before it is dropped, unless a recording of its own is running.
    pub idle: Duration,
}

impl Default for ServerOptions {
    /// 8 clients, 64 KiB, 10 s, 10 minutes.
    fn default() -> Self {
        ServerOptions {
            clients: 8,
            line: 1 << 16,
            patience: Duration::from_secs(10),
            idle: Duration::from_secs(600),
        }
    }
}

/// How often a thread that waits looks whether it shall stop.
const LOOK: Duration = Duration::from_millis(20);
/// How long a client waits for the instrument while another one holds it up.
const QUEUE: Duration = Duration::from_secs(2);

/// An instrument that is served until this is dropped.
///
/// ```
/// use deep_tap_bench::{Remote, Server, ServerOptions, Timeouts, connect};
/// use deep_tap_core::instrument::Instrument;
///
/// let bench = connect("bench:tide-gauge", std::path::Path::new(""))?;
/// let server = Server::start(bench, "127.0.0.1:0", ServerOptions::default())?;
/// let remote = Remote::connect(&server.address().to_string(), Timeouts::default())?;
/// assert!(remote.identity().contains("tide-gauge"));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct Server {
    address: SocketAddr,
    stop: Arc<AtomicBool>,
    accepting: Option<JoinHandle<()>>,
}

/// What all clients share.
struct Shared {
    bench: Mutex<Bench>,
    stop: Arc<AtomicBool>,
    clients: AtomicUsize,
    options: ServerOptions,
}

struct Bench {
    instrument: Box<dyn Instrument>,
    /// Who may do more than ask.
    holder: Option<SocketAddr>,
}

impl Server {
    /// Starts serving at an address; port 0 is any free one.
    ///
    /// # Errors
    /// [`ErrorKind::Link`] when the address cannot be listened at.
    pub fn start(
        instrument: Box<dyn Instrument>,
        address: impl ToSocketAddrs + std::fmt::Display,
        options: ServerOptions,
    ) -> Result<Server> {
        let wrong = |error: std::io::Error| {
            let help = match error.kind() {
                Io::AddrInUse => "something listens there already: choose another port with --listen",
                Io::PermissionDenied => "ports below 1024 are for the administrator: choose another one",
                _ => "give an address of this machine and a port, such as 127.0.0.1:5025",
            };
            Error::new(ErrorKind::Link, format!("cannot listen at {address}: {error}")).with_help(help)
        };
        let listener = TcpListener::bind(&address).map_err(wrong)?;
        listener.set_nonblocking(true).map_err(wrong)?;
        let bound = listener.local_addr().map_err(wrong)?;
        let stop = Arc::new(AtomicBool::new(false));
        let shared = Arc::new(Shared {
            bench: Mutex::new(Bench { instrument, holder: None }),
            stop: Arc::clone(&stop),
            clients: AtomicUsize::new(0),
            options,
        });
        let accepting = thread::spawn(move || accept(&listener, &shared));
        Ok(Server { address: bound, stop, accepting: Some(accepting) })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}

fn accept(listener: &TcpListener, shared: &Arc<Shared>) {
    let mut threads: Vec<JoinHandle<()>> = Vec::new();
    while !shared.stop.load(Ordering::Relaxed) {
        threads.retain(|thread| !thread.is_finished());
        match listener.accept() {
            Ok((stream, from)) => {
                let (shared, stream) = (Arc::clone(shared), stream);
                threads.push(thread::spawn(move || serve(&shared, stream, from)));
            }
            // Nobody, or one that has gone again.
            Err(_) => thread::sleep(LOOK),
        }
    }
    for thread in threads {
        let _ = thread.join();
    }
}

/// One client, from its coming to its going.
fn serve(shared: &Shared, mut stream: TcpStream, from: SocketAddr) {
    let _ = stream.set_nonblocking(false);
    let _ = stream.set_read_timeout(Some(LOOK));
    let _ = stream.set_write_timeout(Some(shared.options.patience));
    let _ = stream.set_nodelay(true);
    if shared.clients.fetch_add(1, Ordering::Relaxed) < shared.options.clients {
        // Whatever ends the conversation, the client is gone then.
        let _ = converse(shared, &mut stream, from);
        let mut bench = shared.bench.lock().unwrap_or_else(PoisonError::into_inner);
        if bench.holder == Some(from) {
            bench.holder = None;
            let _ = bench.instrument.stop();
        }
    } else {
        let error = ScpiError::new(-203, format!("{} clients are served already", shared.options.clients));
        let _ = stream.write_all(format!("{error}\n").as_bytes());
    }
    shared.clients.fetch_sub(1, Ordering::Relaxed);
}

fn converse(shared: &Shared, stream: &mut TcpStream, from: SocketAddr) -> std::io::Result<()> {
    let mut session = match lock(shared) {
        Some(bench) => Session::new(bench.instrument.as_ref()),
        None => return Ok(()),
    };
    let mut line: Vec<u8> = Vec::new();
    let mut overrun = false;
    let mut buffer = [0; 4096];
    let mut heard = Instant::now();
    while !shared.stop.load(Ordering::Relaxed) {
        let count = match stream.read(&mut buffer) {
            Ok(0) => return Ok(()),
            Ok(count) => count,
            Err(error) if matches!(error.kind(), Io::WouldBlock | Io::TimedOut | Io::Interrupted) => {
                if heard.elapsed() > shared.options.idle {
                    if !is_recording(shared, from) {
                        let error = ScpiError::new(-200, "nothing was said for too long");
                        let _ = stream.write_all(format!("{error}\n").as_bytes());
                        return Ok(());
                    }
                    heard = Instant::now();
                }
                continue;
            }
            Err(error) => return Err(error),
        };
        heard = Instant::now();
        for byte in &buffer[..count] {
            match byte {
                b'\n' if std::mem::take(&mut overrun) => {
                    let most = shared.options.line;
                    session.report(ScpiError::new(-363, format!("a message has at most {most} bytes")));
                    line.clear();
                }
                b'\n' => {
                    let message = String::from_utf8_lossy(&line).into_owned();
                    line.clear();
                    let answer = answer(shared, &mut session, message.trim(), stream, from);
                    if !answer.is_empty() {
                        stream.write_all(&answer)?;
                        stream.write_all(b"\n")?;
                    }
                }
                _ if line.len() >= shared.options.line => overrun = true,
                byte => line.push(*byte),
            }
        }
    }
    Ok(())
}

/// Whether a client's recording is running, or may be.
fn is_recording(shared: &Shared, from: SocketAddr) -> bool {
    let Some(mut bench) = lock(shared) else { return true };
    bench.holder == Some(from)
        && matches!(bench.instrument.status(), Ok(Status::Waiting { .. } | Status::Recording { .. }))
}

fn answer(
    shared: &Shared,
    session: &mut Session,
    message: &str,
    stream: &TcpStream,
    from: SocketAddr,
) -> Vec<u8> {
    let Some(mut bench) = lock(shared) else {
        session.report(ScpiError::new(-203, "another client holds the instrument up"));
        // What asks for the errors shall not wait for ever.
        return if message.ends_with('?') { b"-203,\"Command protected;busy\"".to_vec() } else { Vec::new() };
    };
    let Bench { instrument, holder } = &mut *bench;
    let mut reception = Reception { holder, from, stream, stop: &shared.stop };
    session.run(message, instrument.as_mut(), &mut reception)
}

/// The instrument, unless somebody else holds it up for too long.
fn lock(shared: &Shared) -> Option<MutexGuard<'_, Bench>> {
    let start = Instant::now();
    loop {
        match shared.bench.try_lock() {
            Ok(bench) => return Some(bench),
            Err(TryLockError::Poisoned(poisoned)) => return Some(poisoned.into_inner()),
            Err(TryLockError::WouldBlock) if start.elapsed() > QUEUE => return None,
            Err(TryLockError::WouldBlock) => thread::sleep(Duration::from_millis(1)),
        }
    }
}

struct Reception<'a> {
    holder: &'a mut Option<SocketAddr>,
    from: SocketAddr,
    stream: &'a TcpStream,
    stop: &'a AtomicBool,
}

impl Desk for Reception<'_> {
    fn claim(&mut self) -> std::result::Result<(), String> {
        match self.holder {
            Some(holder) if *holder != self.from => Err(holder.to_string()),
            _ => {
                *self.holder = Some(self.from);
                Ok(())
            }
        }
    }

    fn wait(&mut self) -> bool {
        // A client that has gone leaves nothing to read, and says so at once.
        let mut byte = [0];
        let _ = self.stream.set_read_timeout(Some(Duration::from_millis(1)));
        let gone = matches!(self.stream.peek(&mut byte), Ok(0));
        let _ = self.stream.set_read_timeout(Some(LOOK));
        !gone && !self.stop.load(Ordering::Relaxed)
    }
}
