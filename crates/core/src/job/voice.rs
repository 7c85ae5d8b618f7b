//! Prompt lists: lines that an outside command speaks.

use super::deal::{Placement, column_of};
use super::{Dealt, Job, Prompts, Replace};
use crate::disk::Part;
use crate::disk::{Durable, copy_file, put_in_place};
use crate::encoder::{Encoder, private_folder};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::names::{folded, folder_of};
use crate::notice::Notice;
use crate::refusal::{OddJob, OddLine, OddPath, OddText, OutsideFault};
use crate::root::Kind;
use crate::rows::{Row, rows, text_of, usual_delimiter};
use crate::sheet::Method;
use crate::sheet::{Column, Pattern};
use crate::target::Target;
use crate::template::{Names, values};
use deft_needle_audio::measure::is_silent;
use deft_needle_audio::read::Input;
use deft_needle_audio::{Clip, Error as AudioError, Observer};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::time::Duration;
use toml::Spanned;

/// One line of a list.
struct Line {
    /// Where it stands in the list, from 1.
    number: u64,
    slot: String,
    say: String,
    /// What the list's columns hold.
    cells: Vec<(String, String)>,
}

impl Job {
    /// Where spoken lines are kept, beside the job sheet: they can be listened to, and what has not
    /// changed is not spoken again.
    pub fn voices(&self) -> PathBuf {
        let stem = self.path().file_stem().unwrap_or_default().to_string_lossy();
        self.folder().join(format!("{stem}.voices"))
    }

    /// Has the lines of all prompt lists spoken, and deals them to their slots.
    ///
    /// # Errors
    /// [`AudioError::Stopped`]; whatever else is wrong becomes a fault of `dealt`.
    pub fn speak(
        &self,
        target: &Target,
        allow_commands: bool,
        dealt: &mut Dealt,
        observer: &dyn Observer,
    ) -> Result<()> {
        let placed = dealt.placements.iter();
        let mut taken: HashMap<String, String> =
            placed.map(|p| (folded(&p.slot), p.named.clone())).collect();
        for replace in &self.replaces {
            let Some(prompts) = &replace.get_ref().prompts else {
                continue;
            };
            match self.speak_list(replace, prompts, target, allow_commands, dealt, observer) {
                Err(Error::Audio(AudioError::Stopped)) => return Err(AudioError::Stopped.into()),
                Err(error) => dealt.faults.push(error),
                Ok(placements) => {
                    for placement in placements {
                        self.add(placement, replace, &mut taken, dealt);
                    }
                }
            }
        }
        Ok(())
    }

    fn speak_list(
        &self,
        replace: &Spanned<Replace>,
        prompts: &Prompts,
        target: &Target,
        allow_commands: bool,
        dealt: &mut Dealt,
        observer: &dyn Observer,
    ) -> Result<Vec<Placement>> {
        let request = self.request(replace)?;
        let list = self.beside(&prompts.list);
        let lines = self.lines(replace, prompts, &list)?;
        let mut placements = Vec::new();
        let mut unspoken: BTreeMap<PathBuf, &Line> = BTreeMap::new();
        for line in &lines {
            if line.say.is_empty() {
                let list = list.display().to_string();
                let odd = OddLine::NothingSaid(list, line.number, line.slot.clone());
                dealt.faults.push(self.fault(replace, odd).into());
                continue;
            }
            let (slot, _) = match target.aim(&line.slot) {
                Ok(aimed) => aimed,
                Err(error) => {
                    dealt.faults.push(Error::Slot {
                        slot: line.slot.clone(),
                        clip: format!("\"{}\"", line.say),
                        source: Box::new(error),
                    });
                    continue;
                }
            };
            let clip = self.voiced(&slot, &line.say);
            if !clip.is_file() {
                unspoken.insert(clip.clone(), line);
            }
            placements.push(Placement {
                slot,
                clip: Input::file(&clip),
                named: format!("\"{}\"", line.say),
                request: request.clone(),
                like: None,
                making: Method::Fit,
                new: false,
                name_anyway: replace.get_ref().name_anyway,
                link: replace.get_ref().link,
                values: line
                    .cells
                    .iter()
                    .map(|(name, cell)| (name.clone(), cell.as_str().into()))
                    .chain(values(&replace.get_ref().values))
                    .collect(),
            });
        }
        self.missing(replace.get_ref(), target, &lines, dealt);
        self.voice_all(replace, &list, &unspoken, allow_commands, observer)?;
        Ok(placements)
    }

    /// The lines of a list, each with the slot that it is for.
    fn lines(
        &self,
        replace: &Spanned<Replace>,
        prompts: &Prompts,
        list: &Path,
    ) -> Result<Vec<Line>> {
        let wrong = |odd: OddText| -> Error { self.fault(replace, odd).into() };
        let text = text_of(list)?;
        let delimiter = prompts.delimiter.unwrap_or_else(|| usual_delimiter(list, &text));
        let mut rows = rows(list, &text, delimiter, 0)?.into_iter();
        let named = [&prompts.slot, &prompts.say].iter().any(|c| matches!(c, Column::Named(_)));
        let heads = named.then(|| rows.next()).flatten().map_or(Vec::new(), |row| row.cells);
        let place = |column: &Column| column_of(list, column, &heads);
        let (of_slot, say) = (place(&prompts.slot)?, place(&prompts.say)?);
        let mut lines = Vec::new();
        for Row { line, cells } in rows {
            let mut columns: Vec<(String, String)> = Vec::new();
            for (at, cell) in cells.iter().enumerate() {
                columns.push(((at + 1).to_string(), cell.clone()));
                columns.extend(heads.get(at).map(|head| (head.clone(), cell.clone())));
            }
            let mut names = Names::default();
            columns.iter().for_each(|(name, cell)| names.set(name, cell.as_str()));
            // The column of slots is {slot}, whatever the list calls it.
            names.set("slot", cells.get(of_slot).map_or("", String::as_str));
            for slot in &replace.get_ref().slots {
                lines.push(Line {
                    number: line,
                    slot: names.text(slot).map_err(|odd| wrong(odd.into()))?,
                    say: cells.get(say).cloned().unwrap_or_default(),
                    cells: columns.clone(),
                });
            }
        }
        Ok(lines)
    }

    /// Slots of the same kind that the list has no line for.
    fn missing(&self, replace: &Replace, target: &Target, lines: &[Line], dealt: &mut Dealt) {
        let named: BTreeSet<&str> = lines.iter().map(|line| line.slot.as_str()).collect();
        let folders: BTreeSet<&str> = named.iter().map(|slot| folder_of(slot)).collect();
        let placed: BTreeSet<String> =
            dealt.placements.iter().map(|placed| placed.slot.clone()).collect();
        for slot in &replace.slots {
            let mut pattern = slot.clone();
            while let (Some(from), Some(to)) = (pattern.find('{'), pattern.find('}')) {
                pattern.replace_range(from..=to.max(from), "*");
            }
            let Ok(pattern) = pattern.parse::<Pattern>() else {
                continue;
            };
            let missing = target
                .slots
                .names()
                .filter(|name| pattern.matches(name) && folders.contains(folder_of(name)));
            let elsewhere = |name: &&str| placed.contains(*name);
            let missing: Vec<&str> =
                missing.filter(|name| !named.contains(name) && !elsewhere(name)).collect();
            if !missing.is_empty() {
                let slots = missing.into_iter().map(str::to_owned).collect();
                dealt.notices.push(Notice::NoPrompt { slots });
            }
        }
    }

    /// Where a spoken line is kept; another line or another command has another place.
    fn voiced(&self, slot: &str, say: &str) -> PathBuf {
        let command = self.voice.as_ref().map_or(String::new(), |voice| voice.command.join("\0"));
        let hash = Hash::of(format!("{command}\0\0{say}").as_bytes()).hex();
        let file = slot.rsplit('/').next().unwrap_or(slot);
        let stem = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
        self.voices().join(format!("{stem}-{}.wav", &hash[..12]))
    }

    /// Has lines spoken, several at a time.
    fn voice_all(
        &self,
        replace: &Spanned<Replace>,
        list: &Path,
        unspoken: &BTreeMap<PathBuf, &Line>,
        allow_commands: bool,
        observer: &dyn Observer,
    ) -> Result<()> {
        if unspoken.is_empty() {
            return Ok(());
        }
        let Some(voice) = &self.voice else {
            return Err(self.fault(replace, OddLine::NoVoice).into());
        };
        if !allow_commands {
            return Err(
                OddJob::Commands { command: voice.command.clone(), lines: unspoken.len() }.into()
            );
        }
        let limit = Duration::from_secs(voice.seconds);
        let command = Encoder::voice(voice.command.clone(), limit, self.folder())
            .map_err(|odd| self.whole(odd))?;
        let folder = self.voices();
        // Nobody has asked for files where a link leads.
        if Kind::of(&folder)? == Kind::Link {
            return Err(OddPath::Link.of(&folder));
        }
        if !folder.is_dir() {
            std::fs::create_dir(&folder).map_err(Error::write("make", &folder))?;
        }
        unspoken.par_iter().try_for_each(|(clip, line)| {
            if observer.stopped() {
                return Err(AudioError::Stopped.into());
            }
            let spoken = speak(&command, &line.say, clip, observer);
            observer.advance(1);
            spoken.map_err(|error| match error {
                Error::Audio(AudioError::Stopped) => error,
                error => Error::Slot {
                    slot: line.slot.clone(),
                    clip: format!("line {} of {}: \"{}\"", line.number, list.display(), line.say),
                    source: Box::new(error),
                },
            })
        })
    }
}

/// Has one line spoken into a clip.
fn speak(command: &Encoder, say: &str, clip: &Path, observer: &dyn Observer) -> Result<()> {
    let private = private_folder()?;
    let made = private.path().join("spoken.wav");
    command.speak(say, &made, observer)?;
    // What is no sound is told where it is fitted.
    if let Ok(clip) = Clip::open(&made)
        && is_silent(&clip, observer)?
    {
        return Err(command.failed(OutsideFault::Silent));
    }
    let disk = crate::RealDisk::default();
    let part = Part::beside(clip)?;
    copy_file(&made, part.path(), Durable::Yes, &disk)?;
    put_in_place(part.path(), clip, &disk)
}
