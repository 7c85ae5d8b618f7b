//! The demo: a made-up target and made-up clips, and the real commands run on them.

mod brass_wren;
mod jobs;
mod lantern_ferry;
pub mod lockbox;
mod loops;
mod porch_finch;
mod slow_comet;
mod synth;
mod takes;
mod targets;
pub mod voice;

use crate::args::Demo;
use crate::console::{BOLD, Console, FAINT, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_audio::block::Samples;
use deft_needle_audio::clip::Loop;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::Output;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::units::FrameRange;
use deft_needle_core::encoder::words;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::hash::Hash;
use deft_needle_core::tree::files_below;
use std::fs;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Makes everything, runs everything.
pub fn run(args: &Demo, console: &Console) -> Result<Exit, Failure> {
    let folder = make_folder(args.folder.as_deref())?;
    let shown = safe(&folder.display().to_string());
    console.say(format!(
        "{}\nMaking four targets (a talking clock, a game, an intercom, a planetarium) and some takes, in {}",
        paint(BOLD, "The demo of Deft Needle"),
        paint(BOLD, &shown)
    ));
    let stage = Stage { folder, console, exit: Exit::Done };
    let exit = brass_wren::play(stage)?;
    console.say(format!("\nEverything of the demo is kept in {}", paint(BOLD, shown)));
    Ok(exit)
}

/// The hash of every file in these folders, by name; caches are the target's own business.
fn fingerprint(stage: &Stage<'_>, folders: &[&str]) -> Result<Vec<(String, Hash)>, Failure> {
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

fn make_folder(named: Option<&Path>) -> Result<PathBuf, Failure> {
    let Some(folder) = named else {
        let folder = tempfile::Builder::new()
            .prefix("deft-needle-demo-")
            .tempdir()
            .map_err(CoreError::write("make", &std::env::temp_dir()))?;
        return Ok(folder.keep());
    };
    let used = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    if used {
        return Err(Failure::Core(CoreError::refused(
            format!("{} is not empty", folder.display()),
            "name a new folder; the demo never writes into what is there",
        )));
    }
    fs::create_dir_all(folder).map_err(CoreError::write("make", folder))?;
    std::path::absolute(folder).map_err(|e| CoreError::read(folder)(e).into())
}

/// Where the demo plays, and how it has gone so far.
struct Stage<'a> {
    folder: PathBuf,
    console: &'a Console,
    exit: Exit,
}

impl Stage<'_> {
    /// Tells what comes next.
    fn tell(&self, text: &str) {
        self.console.say(format!("\n{}", paint(BOLD, text)));
    }

    /// Tells what somebody does by hand.
    fn by_hand(&self, text: &str) {
        self.console.say(paint(FAINT, format!("({text})")));
    }

    /// Runs a real command, and holds its exit code against the expected one.
    fn run(&mut self, line: &str, expected: Exit) -> Result<(), Failure> {
        self.console.say(format!("{} deft-needle {line}", paint(FAINT, "$")));
        let outside = |error: std::io::Error| Failure::Outside {
            what: format!("the demo cannot start its own program: {error}"),
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
        if status.code() != Some(i32::from(expected.code())) {
            self.exit = Exit::Short;
            self.console.warn(format!(
                "the demo expected exit code {}, and it was {:?}",
                expected.code(),
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
    fn save(&self, name: &str, bytes: &[u8]) -> Result<(), Failure> {
        let path = self.path(name);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(CoreError::write("make", folder))?;
        }
        fs::write(&path, bytes).map_err(CoreError::write("write", &path))?;
        Ok(())
    }

    /// Writes samples as a sound file of the given spec.
    fn save_sound(&self, name: &str, spec: &str, samples: Vec<Vec<f64>>) -> Result<(), Failure> {
        self.save_formed(name, spec, samples, |_| {})
    }

    /// The same, with more than samples in it.
    fn save_formed(
        &self,
        name: &str,
        spec: &str,
        samples: Vec<Vec<f64>>,
        form: impl FnOnce(&mut Output),
    ) -> Result<(), Failure> {
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
