//! A terminal that is gone: its window was closed, its connection broke.

use std::os::fd::AsFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

/// How often it is looked for.
const LOOK: Duration = Duration::from_millis(200);
/// So often in a row, the terminal is gone for good.
const CERTAIN: u32 = 5;

/// Ends the program when the terminal is gone: whoever then waits for a key does so for ever, and takes all of a
/// processor for it.
pub(crate) struct WhileThere {
    over: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl WhileThere {
    pub(crate) fn begin() -> Self {
        let over = Arc::new(AtomicBool::new(false));
        let own = Arc::clone(&over);
        let thread = std::thread::spawn(move || {
            let mut gone = 0;
            while !own.load(Ordering::Relaxed) {
                std::thread::park_timeout(LOOK);
                gone = if is_gone() { gone + 1 } else { 0 };
                if gone == CERTAIN && !own.load(Ordering::Relaxed) {
                    std::process::exit(2);
                }
            }
        });
        WhileThere { over, thread: Some(thread) }
    }
}

impl Drop for WhileThere {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            let _ = thread.join();
        }
    }
}

fn is_gone() -> bool {
    let input = std::io::stdin();
    let mut asked = [PollFd::new(input.as_fd(), PollFlags::POLLIN)];
    let answered = poll(&mut asked, PollTimeout::ZERO);
    let ended =
        |flags: PollFlags| flags.intersects(PollFlags::POLLHUP | PollFlags::POLLERR | PollFlags::POLLNVAL);
    answered.is_ok() && asked[0].revents().is_some_and(ended)
}
