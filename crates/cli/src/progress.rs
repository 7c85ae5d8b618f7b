//! One line for the whole run, for what takes longer than half a second; and Ctrl-C.

use crate::console::Console;
use crate::exit::Exit;
use deft_needle_audio::Observer;
use deft_needle_audio::num::{count, real, rounded};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::{IsTerminal, Write as _};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

static STOPPED: AtomicBool = AtomicBool::new(false);
/// Whether nothing would be left half done if the program ended right now, and nothing else ends it:
/// standard input may be waited for without an end.
static WAITING: AtomicBool = AtomicBool::new(false);
/// Nothing is shown before.
const PATIENCE: Duration = Duration::from_millis(500);
/// Steps of the line; the remaining time is worked out by itself.
const STEPS: u64 = 1000;
/// How much a new estimate of the remaining time counts against the last one.
const FRESH: f64 = 0.1;

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

/// The one line of the run, shared by all work that goes on at once.
static LINE: OnceLock<Mutex<Line>> = OnceLock::new();

/// What the line shows.
struct Line {
    bar: ProgressBar,
    since: Instant,
    drawn: Instant,
    shown: bool,
    /// What is done, in one word.
    phase: &'static str,
    /// Pieces of work that are begun, that are done, and that will be in all.
    begun: u64,
    done: u64,
    all: u64,
    /// Pieces of work that a file is.
    passes: u64,
    /// Frames, or files, that are known of, and those that are worked through.
    known: u64,
    through: u64,
    /// The remaining time as it was shown last.
    left: Option<f64>,
}

impl Line {
    fn new() -> Self {
        let now = Instant::now();
        Self {
            bar: hidden(),
            since: now,
            drawn: now,
            shown: false,
            phase: "",
            begun: 0,
            done: 0,
            all: 0,
            passes: 1,
            known: 0,
            through: 0,
            left: None,
        }
    }

    /// How much of all is done. What has not begun counts as long as what has.
    fn share(&self) -> f64 {
        let all = self.all.max(self.begun).max(1);
        let known = real(self.known.max(1)) * real(all) / real(self.begun.max(1));
        (real(self.through) / known).clamp(0.0, 1.0)
    }

    fn draw(&mut self) {
        let share = self.share();
        let spent = self.since.elapsed().as_secs_f64();
        if share > 0.0 {
            let left = spent * (1.0 - share) / share;
            let steady = self.left.map_or(left, |last| last + FRESH * (left - last));
            self.left = Some(steady);
        }
        let mut text = self.phase.to_owned();
        if self.all > self.passes {
            text += &format!(" {} of {}", self.done / self.passes, self.all / self.passes);
        }
        self.bar.set_message(text);
        let left = self.left.map(|left| indicatif::HumanDuration(Duration::from_secs_f64(left)));
        let rate = real(self.through) / spent.max(0.001);
        self.bar.set_prefix(match left {
            Some(left) => format!("{left:#} left, {}/s", short(rate)),
            None => String::new(),
        });
        self.bar.set_position(rounded(share * real(STEPS)));
    }
}

/// `950`, `41 k`, `2.3 M`.
fn short(value: f64) -> String {
    match value {
        v if v >= 1e6 => format!("{:.1} M", v / 1e6),
        v if v >= 1e3 => format!("{:.0} k", v / 1e3),
        v => format!("{v:.0}"),
    }
}

fn line() -> &'static Mutex<Line> {
    LINE.get_or_init(|| Mutex::new(Line::new()))
}

/// Takes the line away, before anything else is printed and at the end. What goes on shows it again.
pub fn clear() {
    let Some(line) = LINE.get() else { return };
    if let Ok(mut line) = line.lock()
        && std::mem::take(&mut line.shown)
    {
        line.bar.finish_and_clear();
        line.bar = hidden();
    }
}

/// A bar that is not drawn yet.
fn hidden() -> ProgressBar {
    ProgressBar::with_draw_target(Some(STEPS), ProgressDrawTarget::hidden())
}

/// A piece of work, shown in the line of the whole run.
pub struct Progress {
    pace: Option<Duration>,
    /// Advances that the line has not been told yet, so that it is not locked for every block.
    untold: AtomicU64,
    /// How long it was said to be, and what it has come to.
    frames: u64,
    advanced: AtomicU64,
}

impl Progress {
    /// For work on this many frames, or files. `phase` is what is done: `reading`, `fitting`.
    pub fn new(console: &Console, phase: &'static str, frames: u64) -> Self {
        let wanted = console.shows_progress() && std::io::stderr().is_terminal();
        let pace = console.settings().progress.filter(|_| wanted);
        if let (Some(_), Ok(mut line)) = (pace, line().lock()) {
            // What was expected is done: the next work counts from nothing.
            if line.begun == line.done && line.done >= line.all {
                line.since = Instant::now();
                line.left = None;
                (line.begun, line.done, line.known, line.through) = (0, 0, 0, 0);
                (line.all, line.passes) = (0, 1);
            }
            line.phase = phase;
            line.begun += 1;
            line.known += frames;
        }
        Self { pace, untold: AtomicU64::new(0), frames, advanced: AtomicU64::new(0) }
    }

    /// Says how many files are to come, and how many pieces of work each is, before the first begins.
    pub fn expect(console: &Console, files: usize, passes: u64) {
        if let (true, Ok(mut line)) = (console.shows_progress(), line().lock()) {
            line.all = count(files) * passes;
            line.passes = passes;
            line.since = Instant::now();
        }
    }
}

impl Observer for Progress {
    fn advance(&self, frames: u64) {
        let Some(pace) = self.pace else { return };
        self.untold.fetch_add(frames, Ordering::Relaxed);
        self.advanced.fetch_add(frames, Ordering::Relaxed);
        // Whoever finds the line locked leaves it to the one who draws.
        let Ok(mut line) = line().try_lock() else { return };
        line.through += self.untold.swap(0, Ordering::Relaxed);
        if line.since.elapsed() > PATIENCE && line.drawn.elapsed() >= pace {
            line.drawn = Instant::now();
            line.draw();
            if !std::mem::replace(&mut line.shown, true) {
                let style =
                    ProgressStyle::with_template("  {msg}  {wide_bar} {percent:>3} %  {prefix}");
                if let Ok(style) = style {
                    let signs = if crate::console::draws(supports_unicode::Stream::Stderr) {
                        "━╸─"
                    } else {
                        "=>-"
                    };
                    line.bar.set_style(style.progress_chars(signs));
                }
                line.bar.set_draw_target(ProgressDrawTarget::stderr());
            }
        }
    }

    fn stopped(&self) -> bool {
        STOPPED.load(Ordering::Relaxed)
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let (Some(_), Ok(mut line)) = (self.pace, line().lock()) {
            line.through += self.untold.swap(0, Ordering::Relaxed);
            line.done += 1;
            // Planning may measure nothing, and proving reads once more: what it came to is what it was.
            let came_to = self.advanced.load(Ordering::Relaxed);
            line.known = (line.known + came_to).saturating_sub(self.frames);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_not_begun_counts_like_what_has() {
        let mut line = Line::new();
        (line.begun, line.done, line.all) = (2, 1, 10);
        (line.known, line.through) = (2_000, 1_000);
        assert!((line.share() - 0.1).abs() < 1e-9);
        (line.begun, line.done, line.known, line.through) = (10, 10, 10_000, 10_000);
        assert!((line.share() - 1.0).abs() < 1e-9);
        assert_eq!([short(950.0), short(41_000.0), short(2.34e6)], ["950", "41 k", "2.3 M"]);
    }
}
