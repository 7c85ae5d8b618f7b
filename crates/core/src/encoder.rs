//! Outside encoders, for targets whose format is closed: a command that turns a file of an open format
//! into one that only it can make.

use crate::error::{Error, Result};
use crate::names::is_within;
use crate::refusal::{OddJob, OddLine, OutsideFault};
use crate::sheet::OutsideEncoder;
use deft_needle_audio::measure::{Contour, is_silent};
use deft_needle_audio::num::rounded_signed;
use deft_needle_audio::read::{Hints, Input, Private};
use deft_needle_audio::spec::{Chunks, Demand, Header};
use deft_needle_audio::{Clip, Error as AudioError, Observer, Spec};
use process_wrap::std::{ChildWrapper, CommandWrap};
use std::fs::{self, File};
use std::io::{Read as _, Seek as _};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};
use tracing::debug;

/// How often a running command is looked at.
const LOOK: Duration = Duration::from_millis(10);
/// The word that stands for all files of a call, each a word of its own.
const MANY: &str = "{in…}";
/// Files in one call at most: systems limit the length of a command line.
pub const TOGETHER: usize = 50;
/// Encoders begin a little early and fill their last block: what their files may be longer or shorter by.
const SLACK_SECONDS: f64 = 0.1;
const SLACK: f64 = 0.02;
/// How like what it was fed a file must be: what codecs make comes to 0.9 and more, other sounds mostly to 0.3 to 0.7.
const LIKE: f64 = 0.75;
/// What is shown of what a command says, at most.
const MOST_SAID: u64 = 2000;

/// A command of the user's, with places such as `{in}` and `{out}` among its words. It is started without
/// a shell: no word means anything but itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Encoder {
    what: &'static str,
    words: Vec<String>,
    /// Where a program that is named by a relative path may be, the likeliest first.
    places: Vec<PathBuf>,
    limit: Duration,
    /// The file that it makes by itself beside what it is fed.
    out: Option<String>,
}

impl Encoder {
    /// An encoder of a sheet or a job, which may make a file of its own naming.
    ///
    /// # Errors
    /// What is missing.
    pub fn of_rule(rule: &OutsideEncoder) -> Result<Self, OddLine> {
        let mut words = rule.command.clone();
        let folder = rule.folder.as_deref().unwrap_or(Path::new(""));
        let limit = Duration::from_secs(rule.seconds);
        match &rule.out {
            None if rule.takes_many() => Err(OddLine::ManyUnnamed),
            None => Self::of("encoder", words, limit, ["{in}", "{out}"], folder),
            Some(out) => {
                Self::check_out(out, rule.takes_many())?;
                let place = if rule.takes_many() { MANY } else { "{in}" };
                for word in words.iter_mut().filter(|word| *word == "{in...}") {
                    MANY.clone_into(word);
                }
                let named = Self::of("encoder", words, limit, [place, place], folder)?;
                Ok(Self { out: Some(out.clone()), ..named })
            }
        }
    }

    /// A command that speaks `{text}` into `{out}`; a relative program is looked for in this folder first.
    ///
    /// # Errors
    /// As [`Encoder::of_rule`].
    pub fn voice(words: Vec<String>, limit: Duration, folder: &Path) -> Result<Self, OddLine> {
        Self::of("voice", words, limit, ["{text}", "{out}"], folder)
    }

    /// The name of what it makes lies beside what it is fed, and tells several files apart.
    fn check_out(out: &str, many: bool) -> Result<(), OddLine> {
        let plain = is_within(out) && !out.contains('/');
        match plain && (!many || out.contains("{stem}")) {
            true => Ok(()),
            false => Err(OddLine::EncoderOut(out.to_owned())),
        }
    }

    fn of(
        what: &'static str,
        words: Vec<String>,
        limit: Duration,
        places: [&'static str; 2],
        folder: &Path,
    ) -> Result<Self, OddLine> {
        let has = |place: &&str| words.iter().skip(1).any(|word| word.contains(place));
        match !words.is_empty() && places.iter().all(has) {
            true => {
                let places = places_of(Path::new(&words[0]), folder);
                Ok(Self { what, words, places, limit, out: None })
            }
            false => Err(OddLine::Command(what, places)),
        }
    }

    /// Turns `input` into `output`, in the folder of `output`.
    ///
    /// # Errors
    /// [`Error::Outside`] where it cannot be started, takes too long, ends with an error, or leaves no
    /// file or an empty one.
    pub fn run(&self, input: &Path, output: &Path, observer: &dyn Observer) -> Result<()> {
        if self.out.is_none() {
            let input = input.to_string_lossy().into_owned();
            return self.start("{in}", &[input], &[output], observer);
        }
        let made = self.run_together(&[input.to_owned()], observer)?;
        fs::rename(&made[0], output).map_err(Error::write("move", &made[0]))
    }

    /// What can be read of a file that an encoder made must be what it was fed: as long, not silent, and much like it.
    ///
    /// # Errors
    /// [`Error::Outside`] where it is not; those of reading.
    pub fn refuse_other_sound(
        &self,
        fed: &Path,
        made: &Path,
        hints: &Hints,
        observer: &dyn Observer,
    ) -> Result<()> {
        let Ok(clip) = Clip::from_input(Input::file(made), hints) else {
            return Ok(());
        };
        let feed = Clip::open(fed)?;
        let [seconds, wanted] = [&clip, &feed].map(|clip| clip.facts().seconds());
        if (seconds - wanted).abs() > SLACK_SECONDS + wanted * SLACK {
            let [made, fed] = [seconds, wanted]
                .map(|seconds| u64::try_from(rounded_signed(seconds * 1000.0)).unwrap_or_default());
            return Err(self.failed(OutsideFault::Length { made, fed }));
        }
        let silent = |clip: &Clip| is_silent(clip, observer);
        if silent(&feed)? {
            return Ok(());
        }
        if silent(&clip)? {
            return Err(self.failed(OutsideFault::Silent));
        }
        let [made, fed] = [Contour::of(&clip, observer)?, Contour::of(&feed, observer)?];
        match fed.likeness(&made) < LIKE {
            true => Err(self.failed(OutsideFault::OtherSound)),
            false => Ok(()),
        }
    }

    /// Turns several inputs of one folder into files that it names itself, in one call where it takes several.
    ///
    /// # Errors
    /// As [`Encoder::run`].
    pub fn run_together(
        &self,
        inputs: &[PathBuf],
        observer: &dyn Observer,
    ) -> Result<Vec<PathBuf>> {
        let own = self.out.as_deref().unwrap_or_default();
        let named = |input: &PathBuf| {
            let stem = input.file_stem().unwrap_or_default().to_string_lossy();
            input.with_file_name(own.replace("{stem}", &stem))
        };
        let outputs: Vec<PathBuf> = inputs.iter().map(named).collect();
        let made: Vec<&Path> = outputs.iter().map(PathBuf::as_path).collect();
        let texts: Vec<String> =
            inputs.iter().map(|input| input.to_string_lossy().into_owned()).collect();
        self.start("{in}", &texts, &made, observer)?;
        Ok(outputs)
    }

    /// Speaks a text into `output`.
    ///
    /// # Errors
    /// As [`Encoder::run`].
    pub fn speak(&self, text: &str, output: &Path, observer: &dyn Observer) -> Result<()> {
        self.start("{text}", &[text.to_owned()], &[output], observer)
    }

    /// Runs it with what stands for `place`, until it has made all outputs, in the folder of the first.
    fn start(
        &self,
        place: &str,
        with: &[String],
        outputs: &[&Path],
        observer: &dyn Observer,
    ) -> Result<()> {
        let log = outputs[0].with_file_name("said");
        let child = self.spawn(place, with, outputs[0], &log)?;
        let files = u32::try_from(with.len()).unwrap_or(u32::MAX);
        let status = self.wait(child, self.limit.saturating_mul(files), observer)?;
        if !status.success() {
            let (status, said) = (status.to_string(), tail(&log));
            return Err(self.failed(OutsideFault::Failed { status, said }));
        }
        let said = || tail(&log);
        outputs.iter().try_for_each(|output| match fs::metadata(output) {
            Ok(found) if found.is_file() && found.len() > 0 => Ok(()),
            Ok(_) => Err(self.failed(OutsideFault::EmptyFile { said: said() })),
            Err(_) => {
                let place = self.out.clone().unwrap_or_else(|| "{out}".to_owned());
                Err(self.failed(OutsideFault::NoFile { place, said: said() }))
            }
        })
    }

    pub(crate) fn failed(&self, why: OutsideFault) -> Error {
        Error::Outside { role: self.what, program: self.words[0].clone(), why }
    }

    /// Starts it, in a group of its own; what it says goes to `log`.
    fn spawn(&self, place: &str, with: &[String], output: &Path, log: &Path) -> Result<Running> {
        // What is put in is not looked through again: a text may hold "{out}" itself.
        let filled = |word: &String| {
            if word == MANY {
                return with.to_vec();
            }
            let out = output.to_string_lossy();
            let parts = word.split(place).map(|part| part.replace("{out}", &out));
            vec![parts.collect::<Vec<_>>().join(&with[0])]
        };
        let said = File::create(log).map_err(Error::write("create", log))?;
        let both = said.try_clone().map_err(Error::write("create", log))?;
        let there = self.places.iter().find(|place| place.exists()).or(self.places.first());
        let mut command =
            Command::new(there.map_or(self.words[0].as_ref(), |place| place.as_os_str()));
        command
            .args(self.words.iter().skip(1).flat_map(filled))
            .current_dir(output.parent().unwrap_or(Path::new(".")))
            .stdin(Stdio::null())
            .stdout(said)
            .stderr(both);
        let mut command = CommandWrap::from(command);
        #[cfg(unix)]
        command.wrap(process_wrap::std::ProcessGroup::leader());
        #[cfg(windows)]
        command.wrap(process_wrap::std::JobObject);
        let child = command.spawn().map_err(|error| {
            let looked = match self.places.iter().any(|place| place.exists()) {
                true => Vec::new(),
                false => self.places.iter().map(|place| place.display().to_string()).collect(),
            };
            self.failed(OutsideFault::NotStarted { reason: error.to_string(), looked })
        })?;
        debug!(self.what, program = self.words[0], output = %output.display(), "outside command started");
        Ok(Running(child))
    }

    /// Waits until it ends, its time is over, or the user stops it.
    fn wait(
        &self,
        mut child: Running,
        limit: Duration,
        observer: &dyn Observer,
    ) -> Result<ExitStatus> {
        let began = Instant::now();
        loop {
            if observer.stopped() {
                return Err(AudioError::Stopped.into());
            }
            match child.0.try_wait() {
                Ok(Some(status)) => {
                    let seconds = began.elapsed().as_secs_f64();
                    debug!(self.what, %status, seconds, "outside command ended");
                    return Ok(status);
                }
                Ok(None) if began.elapsed() < limit => std::thread::sleep(LOOK),
                Ok(None) => {
                    let limit = limit.as_secs();
                    return Err(self.failed(OutsideFault::TooSlow { limit }));
                }
                Err(error) => {
                    return Err(self.failed(OutsideFault::Lost { reason: error.to_string() }));
                }
            }
        }
    }
}

/// A command that ends with its value, and whatever it has started ends with it.
struct Running(Box<dyn ChildWrapper>);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.start_kill();
        let _ = self.0.wait();
    }
}

impl OutsideEncoder {
    /// Refuses to run what the user has not allowed.
    ///
    /// # Errors
    /// [`Error::Refused`], with the command.
    pub fn refuse(&self, allowed: bool) -> Result<()> {
        match allowed {
            true => Ok(()),
            false => Err(OddJob::Commands { command: self.command.clone(), lines: 1 }.into()),
        }
    }

    /// Whether one call makes many files.
    pub fn takes_many(&self) -> bool {
        self.command.iter().any(|word| word == MANY || word == "{in...}")
    }

    /// What it is fed: a file without surprises.
    ///
    /// # Errors
    /// A bad spec line, or one that is not written here.
    pub fn demand(&self) -> Result<Demand> {
        let spec: Spec = self.feed.parse()?;
        let mut demand = Demand::from(spec);
        demand.chunks = Some(Chunks::Bare);
        demand.header = Some(Header::Plain);
        demand.validate()?;
        Ok(demand)
    }
}

/// Where a program that is named by a relative path may be: beside the sheet that names it, else in the current
/// folder. A bare name is the system's to find.
fn places_of(program: &Path, folder: &Path) -> Vec<PathBuf> {
    if program.components().count() < 2 || program.is_absolute() {
        return Vec::new();
    }
    // It is started in a private folder.
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut all = vec![whole(&folder.join(program)), whole(program)];
    all.dedup();
    all
}

/// A folder that nobody else looks into, and that goes with its value.
///
/// # Errors
/// [`Error::Write`].
pub fn private_folder() -> Result<Private> {
    Private::new().map_err(Error::write("make", &std::env::temp_dir()))
}

/// The end of what the command said, in one line.
fn tail(log: &Path) -> String {
    let read = || -> std::io::Result<String> {
        let mut file = File::open(log)?;
        let length = file.metadata()?.len();
        file.seek(std::io::SeekFrom::Start(length.saturating_sub(MOST_SAID)))?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes)?;
        Ok(String::from_utf8_lossy(&bytes).split_whitespace().collect::<Vec<_>>().join(" "))
    };
    read().unwrap_or_default()
}

/// A word as [`words`] reads it back: in double quotes where blanks or a shell's own signs are in it.
pub fn as_word(text: &str) -> String {
    let plain = |c: char| !c.is_whitespace() && !"'()&;|<>*?$`".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        text.to_owned()
    } else {
        format!("\"{text}\"")
    }
}

/// Splits a typed command into words: blanks part them, double quotes hold them together.
pub fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quoted, mut begun) = (Vec::new(), String::new(), false, false);
    for letter in line.chars() {
        match letter {
            '"' => (quoted, begun) = (!quoted, true),
            blank if blank.is_whitespace() && !quoted => {
                if std::mem::take(&mut begun) {
                    words.push(std::mem::take(&mut word));
                }
            }
            letter => {
                word.push(letter);
                begun = true;
            }
        }
    }
    if begun {
        words.push(word);
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_it_makes_lies_beside_what_it_is_fed() {
        for (out, one, many) in [
            ("{stem}.bin", true, true),
            ("made.bin", true, false),
            ("../{stem}.bin", false, false),
            ("sub/{stem}.bin", false, false),
            ("/tmp/{stem}.bin", false, false),
            ("..", false, false),
            ("", false, false),
        ] {
            for (word, fine) in [("{in}", one), ("{in…}", many), ("{in...}", many)] {
                let rule = OutsideEncoder {
                    command: vec!["enc".to_owned(), word.to_owned()],
                    feed: String::new(),
                    seconds: 1,
                    out: Some(out.to_owned()),
                    folder: None,
                };
                assert_eq!(Encoder::of_rule(&rule).is_ok(), fine, "{out} {word}");
            }
        }
    }

    #[test]
    fn typed_commands() {
        assert_eq!(
            words(r#"C:\tools\enc.exe -x "two words" "" {in} {out}"#),
            [r"C:\tools\enc.exe", "-x", "two words", "", "{in}", "{out}"]
        );
        assert_eq!(words("  "), [""; 0]);
        for line in ["enc {in}", "", "{in} {out}"] {
            let voice = Encoder::voice(words(&line.replace("{in}", "{text}")), LOOK, Path::new(""));
            assert!(voice.is_err(), "{line}");
        }
    }
}
