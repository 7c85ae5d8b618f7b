//! A bar for what takes longer than half a second, and Ctrl-C.

use crate::console::Console;
use crate::exit::Exit;
use deft_needle_audio::Observer;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::{IsTerminal, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

static STOPPED: AtomicBool = AtomicBool::new(false);
/// Whether nothing would be left half done if the program ended right now, and nothing else ends it:
/// standard input may be waited for without an end.
static WAITING: AtomicBool = AtomicBool::new(false);
/// Nothing is shown before.
const PATIENCE: Duration = Duration::from_millis(500);

/// From now on Ctrl-C stops the work at the next block, so that it can clean up after itself; a second
/// one ends the program at once. The ledger is made for that: the next run deals with what is left.
pub fn watch_for_interrupt() {
    let handler = || {
        let again = STOPPED.swap(true, Ordering::SeqCst);
        if again || WAITING.load(Ordering::SeqCst) {
            let said = match again {
                true => "interrupted at once: the next run clears up what is left",
                false => "interrupted",
            };
            let _ = writeln!(std::io::stderr(), "\nerror: {said}");
            std::process::exit(Exit::Interrupted.code().into());
        }
    };
    // Where it cannot be watched, the system ends the program as ever.
    let _ = ctrlc::set_handler(handler);
}

/// Does what may wait for ever, and has changed nothing yet.
pub fn waiting<T>(wait: impl FnOnce() -> T) -> T {
    WAITING.store(true, Ordering::SeqCst);
    let waited = wait();
    WAITING.store(false, Ordering::SeqCst);
    waited
}

/// Shows how far the work is.
pub struct Progress {
    bar: ProgressBar,
    wanted: bool,
    shown: AtomicBool,
    since: Instant,
}

impl Progress {
    /// For work on so many frames in all.
    pub fn new(console: &Console, frames: u64) -> Self {
        let style = ProgressStyle::with_template("  {wide_bar} {percent:>3} %  {eta} left");
        let bar = ProgressBar::with_draw_target(Some(frames), ProgressDrawTarget::hidden());
        if let Ok(style) = style {
            bar.set_style(style.progress_chars("━╸─"));
        }
        Self {
            bar,
            wanted: console.shows_progress() && std::io::stderr().is_terminal(),
            shown: AtomicBool::new(false),
            since: Instant::now(),
        }
    }
}

impl Observer for Progress {
    fn advance(&self, frames: u64) {
        self.bar.inc(frames);
        let due = self.wanted && self.since.elapsed() > PATIENCE;
        if due && !self.shown.swap(true, Ordering::Relaxed) {
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
    }

    fn stopped(&self) -> bool {
        STOPPED.load(Ordering::Relaxed)
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
