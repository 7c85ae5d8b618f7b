//! The demo: made-up targets and clips, the real commands run on them, and stand-ins that load the results.
//!
//! It runs the program that it is part of as a user would; the stand-ins share nothing with the crates that
//! they judge.
#![cfg_attr(test, allow(clippy::as_conversions))]

mod brass_wren;
mod chapters;
mod glass_heron;
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
mod tour;
mod voice;

use anstyle::Style;
use chapters::CHAPTERS;
use clap::Args;
use deft_needle_audio::block::Samples;
use deft_needle_audio::clip::Loop;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::spec::Output;
use deft_needle_audio::units::FrameRange;
use deft_needle_core::encoder::{as_word, words};
use deft_needle_core::error::{Error, Result};
use deft_needle_core::hash::Hash;
use deft_needle_core::refusal::{OddPath, OutsideFault};
use deft_needle_core::tree::files_below;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Try it out: make up targets and clips, and take a tour with them
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:
  deft-needle demo try            the short tour; its files stay in the folder try
  deft-needle demo --list         the chapters
  deft-needle demo --chapter 5    music and ambience that loop
  deft-needle demo --all          every chapter, with everything checked")]
pub struct Demo {
    /// A new or empty folder for its files [default: a temporary one, which is kept]
    #[arg(value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
    /// Play one chapter
    #[arg(long, value_name = "N", conflicts_with = "all", value_parser = chapter_number)]
    pub chapter: Option<usize>,
    /// Play all chapters
    #[arg(long)]
    pub all: bool,
    /// List the chapters
    #[arg(long, conflicts_with_all = ["all", "chapter", "folder"])]
    pub list: bool,
}

fn chapter_number(typed: &str) -> std::result::Result<usize, String> {
    let number = typed.parse().ok().filter(|number| (1..=CHAPTERS.len()).contains(number));
    number.ok_or_else(|| format!("there are chapters 1 to {}; --list shows them", CHAPTERS.len()))
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
        /// Take this many seconds over it
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

/// Where the demo is shown.
pub trait Screen {
    /// A line or more of the story.
    fn say(&self, text: &str);
    /// Something that is not as it should be.
    fn warn(&self, text: &str);
    /// Whether nothing is shown, and what the commands print neither.
    fn is_silent(&self) -> bool;
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

/// What a run of the demo came to.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Played {
    /// Where its files are; `None` where only the chapters were listed.
    pub folder: Option<String>,
    /// The titles of the chapters, in their order.
    pub chapters: Vec<&'static str>,
    /// Whether all went as it should.
    pub as_expected: bool,
}

/// Makes everything and plays what was asked for.
///
/// # Errors
/// A folder that is not empty, files that cannot be written.
pub fn run(args: &Demo, screen: &dyn Screen) -> Result<Played> {
    let chapters = CHAPTERS.iter().map(|chapter| chapter.title).collect();
    if args.list {
        for (number, chapter) in (1..).zip(CHAPTERS) {
            screen.say(&format!("{number}  {}", chapter.title));
        }
        return Ok(Played { folder: None, chapters, as_expected: true });
    }
    let folder = make_folder(args.folder.as_deref())?;
    // As it was typed, so that it can be pasted.
    let shown = args.folder.as_deref().unwrap_or(&folder).display().to_string();
    let shown = shown.escape_debug().to_string();
    let mut stage = Stage { folder, screen, as_expected: true };
    screen.say(&paint(BOLD, "The demo of Deft Needle"));
    stage.by_hand(&format!(
        "made in {shown}: a talking clock, a game, an intercom, a planetarium, a museum guide, and some clips"
    ));
    make(&stage)?;
    match (args.all, args.chapter) {
        (true, _) => (1..=CHAPTERS.len()).try_for_each(|number| chapter(&mut stage, number))?,
        (false, Some(number)) => chapter(&mut stage, number)?,
        (false, None) => unchanged_after(&mut stage, tour::play)?,
    }
    screen.say(&format!("\n{} The files are in {shown}", paint(BOLD, "Try this next.")));
    screen.say(&format!("  cd {}", as_word(&shown)));
    let width = tour::NEXT.iter().map(|(line, _)| line.len()).filter(|width| *width < 50).max();
    for (line, what) in tour::NEXT {
        let line = format!("  {line:<width$}  {what}", width = width.unwrap_or_default());
        screen.say(line.trim_end());
    }
    Ok(Played { folder: Some(shown), chapters, as_expected: stage.as_expected })
}

/// Every target, clip and job sheet.
fn make(stage: &Stage<'_>) -> Result<()> {
    brass_wren::make(stage)?;
    lantern_ferry::make(stage)?;
    porch_finch::make(stage)?;
    slow_comet::make(stage)?;
    glass_heron::make(stage)?;
    lockbox::make(stage)?;
    takes::make(stage)?;
    jobs::make(stage)
}

fn chapter(stage: &mut Stage<'_>, number: usize) -> Result<()> {
    let chapter = &CHAPTERS[number - 1];
    stage.tell(&format!("Chapter {number} of {}: {}", CHAPTERS.len(), chapter.title));
    unchanged_after(stage, chapter.play)
}

/// Plays, and compares all targets with what they were.
fn unchanged_after(
    stage: &mut Stage<'_>,
    play: impl FnOnce(&mut Stage<'_>) -> Result<()>,
) -> Result<()> {
    let before = fingerprint(stage)?;
    play(stage)?;
    if fingerprint(stage)? == before {
        stage.by_hand("compared: every file of every target is as it was, byte for byte");
    } else {
        stage.screen.warn("a target is not as it was");
        stage.as_expected = false;
    }
    Ok(())
}

/// The hash of every file of the targets, by name. Caches are left out: their game writes them.
fn fingerprint(stage: &Stage<'_>) -> Result<Vec<(String, Hash)>> {
    let mut all = Vec::new();
    for folder in ["card", "game", "settings", "finch", "comet", "heron", "signals", "hold"] {
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
    vec![Loop::endless(range)]
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
    /// What comes next.
    fn tell(&self, text: &str) {
        self.screen.say(&format!("\n{}", paint(BOLD, text)));
    }

    /// What somebody does by hand.
    fn by_hand(&self, text: &str) {
        self.screen.say(&paint(FAINT, format!("({text})")));
    }

    /// Runs a real command, and holds its exit code against the expected one.
    fn run(&mut self, line: &str, expected: Code) -> Result<()> {
        self.screen.say(&format!("{} deft-needle {line}", paint(FAINT, "$")));
        let outside = |error: std::io::Error| Error::Outside {
            role: "demo",
            program: "deft-needle".to_owned(),
            why: OutsideFault::NotStarted { reason: error.to_string(), looked: Vec::new() },
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
            .stdout(if self.screen.is_silent() { Stdio::null() } else { Stdio::inherit() })
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
