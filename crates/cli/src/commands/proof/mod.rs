//! A page that shows and plays every replacement beside its stock.

mod beside;
mod card;
mod heard;

use self::beside::{Away, DIGITS, head};
use self::card::card;
use self::heard::Heard;
use super::{counted, swap};
use crate::args::{Going, Proof};
use crate::console::{BOLD, Console, paint, safe};
use crate::exit::Exit;
use crate::failure::{Failure, core_exit};
use crate::object::Proven;
use crate::paths::{shown, text};
use crate::progress::Progress;
use crate::report::{error, notice};
use deft_needle_audio::{Clip, Observer};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::disk::{put_file, same_file};
use deft_needle_core::encoder::private_folder;
use deft_needle_core::hash::Hash;
use deft_needle_core::hash_cache::HashCache;
use deft_needle_core::ledger::Ledger;
use deft_needle_core::root::{Kind, Root};
use deft_needle_core::run::refuse_existing;
use deft_needle_core::run::{Notice, Previews, Run, Which, exhibit_root};
use deft_needle_core::sheet::Size;
use deft_needle_proof::page::{Room, Told, files_beside, turning};
use deft_needle_proof::sound::Playable;
use deft_needle_proof::{Card, Page};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// What tells that a page is one of ours, near its beginning.
const OURS: [&str; 2] =
    ["<meta name=\"generator\" content=\"deft-needle proof\">", "<body data-id=\""];
/// Slots that are drawn before the sounds of the first of them are put away.
const TOGETHER: usize = 16;
/// Writes the page, and opens it.
pub fn run(args: &Proof, console: &Console) -> Result<Exit, Failure> {
    let made_of: Vec<&Path> =
        std::iter::once(&args.what).chain(&args.slot).map(PathBuf::as_path).collect();
    refuse_foreign(&made_of, &args.out, args.overwrite)?;
    let progress = Progress::new(console, "planning", 0);
    let proof = gather(args, &progress)?;
    drop(progress);
    let progress = Progress::new(console, "drawing", 0);
    let written = proof.write(&args.out, args.inline.0, None, &progress)?;
    drop(progress);
    console.say(format!(
        "{}: {}, {}",
        paint(BOLD, safe(&shown(&args.out))),
        counted(proof.previews.all.len(), "slot"),
        Size(written.bytes)
    ));
    if let Some(files) = &written.files {
        console.say(format!("  sounds beside it in {}: keep both together", safe(files)));
    }
    for (words, _) in &proof.problems {
        console.warn(safe(words));
    }
    if args.open {
        let page = std::path::absolute(&args.out).unwrap_or_else(|_| args.out.clone());
        opener::open(page).map_err(|error| Failure::Outside {
            what: format!("the browser did not start: {error}"),
        })?;
    }
    console.object(|| &written);
    Ok(proof.problems.iter().fold(Exit::Done, |exit, (_, found)| exit.worst(*found)))
}

/// A page of ours is written anew, anything else only where that is said, and what the page is made of never.
///
/// # Errors
/// A refusal.
pub fn refuse_foreign(made_of: &[&Path], out: &Path, overwrite: bool) -> Result<(), Failure> {
    if made_of.iter().any(|path| same_file(path, out)) {
        return Err(Failure::usage(
            format!("{} is what the page is about", shown(out)),
            "choose another name for the page",
        ));
    }
    if Kind::of(out)? == Kind::File {
        let head = head(out);
        if OURS.iter().all(|mark| head.contains(mark)) {
            return Ok(());
        }
        // A clip, a sheet, a target's list: nobody has meant that, though it is said.
        let start = head.trim_start_matches('\u{feff}').trim_start();
        if overwrite && (!start.starts_with('<') || start.starts_with("<?xml")) {
            return Err(Failure::usage(
                format!("{} exists and is not a page", shown(out)),
                "choose another name for the page",
            ));
        }
    }
    Ok(refuse_existing(&[], out, overwrite)?)
}

/// What a page is made of.
pub struct Gathered {
    previews: Previews,
    heard: Heard,
    title: String,
    job: String,
    facts: Vec<(String, String)>,
    notices: Vec<Notice>,
    /// What is wrong, in words, and the exit code that stands for it.
    problems: Vec<(String, Exit)>,
    help: Vec<Option<String>>,
    _kept: Option<super::job::Opened>,
}

fn gather(args: &Proof, observer: &Progress) -> Result<Gathered, Failure> {
    let options = args.how.options.said().next();
    match (&args.slot, options) {
        (Some(slot), _) => of_swap(args, slot, observer),
        (None, Some((name, _))) => Err(Failure::usage(
            format!("--{name} is for a clip and a slot"),
            "name the file to replace behind the clip, or leave the option out",
        )),
        (None, None) if !Run::is_pack(&args.what) && args.what.is_dir() => of_root(args, observer),
        (None, None) if Clip::open(&args.what).is_ok() => Err(Failure::usage(
            format!("{} is a clip", shown(&args.what)),
            "name the file to replace behind it",
        )),
        (None, None) => {
            let allow_commands = args.how.outside.allow_commands;
            let going = Going { place: args.how.place.clone(), allow_commands };
            let opened = going.open(&args.what, args.how.wanted.target.as_deref(), observer)?;
            of_job(opened, observer)
        }
    }
}

/// A job or a pack.
///
/// # Errors
/// Those of reading and fitting.
pub fn of_job(opened: super::job::Opened, observer: &Progress) -> Result<Gathered, Failure> {
    let run = &opened.run;
    let title = format!("Proof of {}", run.job.name);
    let mut proof = of_run(run, title, observer)?;
    proof._kept = Some(opened);
    Ok(proof)
}

fn of_swap(args: &Proof, slot: &Path, observer: &Progress) -> Result<Gathered, Failure> {
    let (target, root) = swap::aimed(&args.what, slot, &args.how)?;
    let asked = swap::asked(&args.what, slot, &args.how, target, root)?;
    let run = Run::swap(asked, None)?;
    let title = format!("Proof of {} in {}", text(&args.what), text(slot));
    let proof = of_run(&run, title, observer)?;
    match proof.problems.first() {
        // One slot that cannot be made leaves nothing to show.
        Some(_) if proof.previews.all.is_empty() => {
            let (words, _) = &proof.problems[0];
            Err(Failure::usage(words.clone(), proof.help[0].clone().unwrap_or_default()))
        }
        _ => Ok(proof),
    }
}

fn of_run(run: &Run, title: String, observer: &Progress) -> Result<Gathered, Failure> {
    let disk = RealDisk::default();
    let (state, hash_cache) = match &run.root {
        Some(root) => (Ledger::peek(root)?, HashCache::load(&root.ledger)),
        None => Default::default(),
    };
    let plan = run.look(&state, &hash_cache, &disk, observer)?;
    let faults: Vec<_> = run.faults(&plan).collect();
    let heard = Heard::within(private_folder()?);
    let previews = run.preview(&plan, &heard, &disk, observer)?;
    let root = run.root.as_ref().map(|root| shown(&root.path));
    let mut facts = vec![("target".to_owned(), run.target.sheet.name.clone())];
    facts.extend(root.map(|root| ("root".to_owned(), root)));
    let help = |fault| Some(error::core_remedy(fault)).filter(|help| !help.is_empty());
    Ok(Gathered {
        previews,
        heard,
        title,
        job: run.job.name.clone(),
        facts,
        problems: faults.iter().map(|fault| (error::core(fault), core_exit(fault))).collect(),
        help: faults.iter().map(|fault| help(*fault)).collect(),
        notices: plan.notices,
        _kept: None,
    })
}

/// What is installed, and what it replaced.
fn of_root(args: &Proof, observer: &Progress) -> Result<Gathered, Failure> {
    let asked = args.how.place.asked();
    let roots: Vec<Root> = asked.all_of(&args.what)?;
    let Some(root) = roots.first() else {
        return Err(Failure::usage(
            format!("{}: nothing is installed there", shown(&args.what)),
            "name a job sheet, a pack, or a clip and the file to replace",
        ));
    };
    let below = super::restore::within(root, &args.what)?;
    let which = below.as_deref().map_or(Which::All, Which::Below);
    let heard = Heard::within(private_folder()?);
    let previews = exhibit_root(root, which, &heard, observer)?;
    Ok(Gathered {
        previews,
        heard,
        title: format!("Proof of what is installed in {}", shown(&root.path)),
        job: String::new(),
        facts: vec![("root".to_owned(), shown(&root.path))],
        notices: Vec::new(),
        problems: Vec::new(),
        help: Vec::new(),
        _kept: None,
    })
}

impl Gathered {
    /// Writes the page, and what does not go into it beside it. `turn` counts the turns of a job that is watched.
    ///
    /// # Errors
    /// Those of reading and writing.
    pub fn write(
        &self,
        out: &Path,
        inline: u64,
        turn: Option<u64>,
        observer: &dyn Observer,
    ) -> Result<Proven, Failure> {
        let disk = RealDisk::default();
        let folder = out.parent().filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        if !folder.is_dir() {
            std::fs::create_dir_all(folder)
                .map_err(|source| deft_needle_core::Error::write("make", folder)(source))?;
        }
        let files = files_beside(out);
        let mut away = Away {
            folder: folder.join(&files),
            files,
            room: inline,
            disk: &disk,
            used: BTreeSet::new(),
        };
        let mut cards = Vec::with_capacity(self.previews.all.len());
        for some in self.previews.all.chunks(TOGETHER) {
            let drawn = some.par_iter().map(|preview| card(preview, &self.heard, observer));
            let drawn: Vec<(Card, [Option<Playable>; 2])> = drawn.collect::<Result<_, _>>()?;
            for (mut card, sounds) in drawn {
                card.number = cards.len() + 1;
                for (side, sound) in [&mut card.stock, &mut card.new].into_iter().zip(sounds) {
                    if let (Some(side), Some(sound)) = (side, sound) {
                        side.sound = away.put(sound)?;
                    }
                }
                cards.push(card);
            }
        }
        let page = self.page(cards, out, turn, &away.files);
        if let Some(turn) = turn {
            away.make("turn.js", |out| out.write_all(turning(turn).as_bytes()))?;
        }
        let make = |file: &mut dyn deft_needle_audio::write::Out| {
            page.write(file).map_err(|source| deft_needle_audio::Error::Write { source })
        };
        put_file(out, &disk, make, |_, ()| Ok(()))?;
        away.tidy();
        let bytes = std::fs::metadata(out).map_or(0, |found| found.len());
        Ok(Proven {
            page: text(out),
            bytes,
            files: (!away.used.is_empty()).then(|| text(&away.folder)),
            slots: page.cards.len(),
            problems: self.problems.iter().map(|(words, _)| words.clone()).collect(),
        })
    }

    fn page(&self, cards: Vec<Card>, out: &Path, turn: Option<u64>, files: &str) -> Page {
        let absolute = std::path::absolute(out).unwrap_or_else(|_| out.to_owned());
        let id = Hash::of(format!("{}\n{}", absolute.display(), self.title).as_bytes());
        let mut facts = self.facts.clone();
        let bytes: u64 = self.previews.all.iter().map(|preview| preview.bytes).sum();
        facts.push(("slots".to_owned(), cards.len().to_string()));
        facts.push(("replacements".to_owned(), Size(bytes).to_string()));
        let room = self.notices.iter().find_map(|notice| match notice {
            Notice::Room { takes, budget } => Some(Room {
                takes: takes.0,
                most: budget.0,
                words: format!("all slots take about {takes} of {budget}"),
            }),
            _ => None,
        });
        let told = self.problems.iter().zip(&self.help);
        Page {
            id: id.hex()[..DIGITS].to_owned(),
            title: self.title.clone(),
            job: self.job.clone(),
            facts,
            room,
            problems: told
                .map(|((words, _), help)| Told { text: words.clone(), help: help.clone() })
                .collect(),
            notes: self.notices.iter().map(notice::words).collect(),
            cards,
            made: format!("Made by deft-needle {}", env!("CARGO_PKG_VERSION")),
            turn,
            files: files.to_owned(),
        }
    }
}
