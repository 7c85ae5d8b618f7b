//! The demo: made-up targets and clips, the real commands run on them, and stand-ins that load the results.
//!
//! It runs the program that it is part of as a user would; the stand-ins share nothing with the crates that
//! they judge.
#![cfg_attr(test, allow(clippy::as_conversions))]

mod brass_wren;
mod jobs;
mod lantern_ferry;
mod lockbox;
mod loops;
mod porch_finch;
mod slow_comet;
pub mod stand_ins;
mod synth;
mod takes;
mod targets;
mod voice;

use anstyle::Style;
use clap::Args;
use deft_needle_audio::block::Samples;
use deft_needle_audio::clip::Loop;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::spec::Output;
use deft_needle_audio::units::FrameRange;
use deft_needle_core::encoder::words;
use deft_needle_core::error::{Error, Result};
use deft_needle_core::hash::Hash;
use deft_needle_core::refusal::{OddPath, OutsideFault};
use deft_needle_core::tree::files_below;
use std::fs;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Make up targets and clips, and run the whole job on them
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  deft-needle demo
  deft-needle demo somewhere-new")]
pub struct Demo {
    /// Where to make it; a new or empty folder (else a temporary one, which is kept)
    #[arg(value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
}

/// Programs that targets and their makers bring; the demo has them within itself.
#[derive(Debug, clap::Subcommand)]
pub enum StandIn {
    /// The encoder of the demo's invented game
    #[command(name = "stand-in-lockbox", hide = true)]
    Lockbox {
        /// A WAV
        input: PathBuf,
        /// What becomes of it
        output: PathBuf,
        /// Take so many seconds over it
        #[arg(long, default_value_t = 0)]
        slow: u64,
    },
    /// The voice of the demo's invented clock: tones that spell a line
    #[command(name = "stand-in-voice", hide = true)]
    Voice {
        /// What it says
        text: String,
        /// A WAV to write
        output: PathBuf,
    },
}

impl StandIn {
    /// Does what the program would do.
    ///
    /// # Errors
    /// Files that cannot be read or written, and what the program does not like.
    pub fn run(&self) -> Result<()> {
        match self {
            Self::Lockbox { input, output, slow } => lockbox::encode(input, output, *slow),
            Self::Voice { text, output } => voice::speak(text, output),
        }
    }
}

/// Where the demo tells its story.
pub trait Screen {
    /// A line or more of the story.
    fn say(&self, text: &str);
    /// Something that is not as it should be.
    fn warn(&self, text: &str);
}

/// The exit codes that the demo's commands end with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Code {
    Done,
    Short,
    Unreadable,
    CannotMeet,
    Refused,
}

impl Code {
    fn number(self) -> i32 {
        match self {
            Self::Done => 0,
            Self::Short => 1,
            Self::Unreadable => 3,
            Self::CannotMeet => 4,
            Self::Refused => 5,
        }
    }
}

const BOLD: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();

fn paint(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// Makes everything, runs everything; gives whether all went as it should.
///
/// # Errors
/// A folder that is not empty, files that cannot be written.
pub fn run(args: &Demo, screen: &dyn Screen) -> Result<bool> {
    let folder = make_folder(args.folder.as_deref())?;
    let shown = folder.display().to_string().escape_debug().to_string();
    screen.say(&format!(
        "{}\nMaking four targets (a talking clock, a game, an intercom, a planetarium) and some takes, in {}",
        paint(BOLD, "The demo of Deft Needle"),
        paint(BOLD, &shown)
    ));
    let as_expected = brass_wren::play(Stage { folder, screen, as_expected: true })?;
    screen.say(&format!("\nEverything of the demo is kept in {}", paint(BOLD, shown)));
    Ok(as_expected)
}

/// The hash of every file in these folders, by name; caches are the target's own business.
fn fingerprint(stage: &Stage<'_>, folders: &[&str]) -> Result<Vec<(String, Hash)>> {
    let mut all = Vec::new();
    for folder in folders {
        for file in files_below(&stage.path(folder))? {
            if file.extension().is_none_or(|extension| extension != "idx") {
                all.push((file.display().to_string(), Hash::of_file(&file)?));
            }
        }
    }
    Ok(all)
}

/// One loop without end.
fn looped(range: FrameRange) -> Vec<Loop> {
    vec![Loop { range, plays: 0 }]
}

fn make_folder(named: Option<&Path>) -> Result<PathBuf> {
    let Some(folder) = named else {
        let folder = tempfile::Builder::new()
            .prefix("deft-needle-demo-")
            .tempdir()
            .map_err(Error::write("make", &std::env::temp_dir()))?;
        return Ok(folder.keep());
    };
    let used = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    if used {
        return Err(OddPath::NotEmpty.of(folder));
    }
    fs::create_dir_all(folder).map_err(Error::write("make", folder))?;
    std::path::absolute(folder).map_err(Error::read(folder))
}

/// Where the demo plays, and how it has gone so far.
struct Stage<'a> {
    folder: PathBuf,
    screen: &'a dyn Screen,
    as_expected: bool,
}

impl Stage<'_> {
    /// Tells what comes next.
    fn tell(&self, text: &str) {
        self.screen.say(&format!("\n{}", paint(BOLD, text)));
    }

    /// Tells what somebody does by hand.
    fn by_hand(&self, text: &str) {
        self.screen.say(&paint(FAINT, format!("({text})")));
    }

    /// Runs a real command, and holds its exit code against the expected one.
    fn run(&mut self, line: &str, expected: Code) -> Result<()> {
        self.screen.say(&format!("{} deft-needle {line}", paint(FAINT, "$")));
        let outside = |error: std::io::Error| Error::Outside {
            role: "demo",
            program: "deft-needle".to_owned(),
            why: OutsideFault::NotStarted { reason: error.to_string() },
        };
        let program = std::env::current_exe().map_err(outside)?;
        let status = Command::new(&program)
            .args(words(line).into_iter().map(|word| {
                // An encoder that is this program itself.
                match word.strip_prefix("deft-needle ") {
                    Some(rest) => format!("\"{}\" {rest}", program.display()),
                    None => word,
                }
            }))
            .current_dir(&self.folder)
            .status()
            .map_err(outside)?;
        let expected = expected.number();
        if status.code() != Some(expected) {
            self.as_expected = false;
            self.screen.warn(&format!(
                "the demo expected exit code {}, and it was {:?}",
                expected,
                status.code()
            ));
        }
        Ok(())
    }

    /// A path within the demo's folder.
    fn path(&self, name: &str) -> PathBuf {
        name.split('/').fold(self.folder.clone(), |path, part| path.join(part))
    }

    /// Writes a file, making its folder.
    fn save(&self, name: &str, bytes: &[u8]) -> Result<()> {
        let path = self.path(name);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(Error::write("make", folder))?;
        }
        fs::write(&path, bytes).map_err(Error::write("write", &path))?;
        Ok(())
    }

    /// Writes samples as a sound file of the given spec.
    fn save_sound(&self, name: &str, spec: &str, samples: Vec<Vec<f64>>) -> Result<()> {
        self.save_formed(name, spec, samples, |_| {})
    }

    /// The same, with more than samples in it.
    fn save_formed(
        &self,
        name: &str,
        spec: &str,
        samples: Vec<Vec<f64>>,
        form: impl FnOnce(&mut Output),
    ) -> Result<()> {
        let format: Format = spec.parse()?;
        let frames = deft_needle_audio::num::count(samples[0].len());
        let mut output = Output::plain(format, frames);
        form(&mut output);
        let mut bytes = Cursor::new(Vec::new());
        let source = Samples::new(format.rate, samples);
        render_source(source, &output, Dither::Triangular, &mut bytes, &Unobserved)?;
        self.save(name, bytes.get_ref())
    }
}
