//! A page that shows and plays every replacement beside its stock.

use super::{counted, swap};
use crate::args::{Going, Proof};
use crate::console::{BOLD, Console, paint, safe};
use crate::exit::Exit;
use crate::failure::{Failure, core_exit};
use crate::object::Proven;
use crate::paths::{shown, text};
use crate::progress::Progress;
use crate::report::{error, notice, plan};
use deft_needle_audio::clip::Loop;
use deft_needle_audio::edit::{ValueKind, option};
use deft_needle_audio::num::scaled;
use deft_needle_audio::plan::Decision;
use deft_needle_audio::units::Duration;
use deft_needle_audio::{Clip, Observer};
use deft_needle_core::disk::{Disk as _, RealDisk};
use deft_needle_core::fit::{put_bytes, put_file, refuse_existing, same_file};
use deft_needle_core::hash::Hash;
use deft_needle_core::ledger::Ledger;
use deft_needle_core::names::family_of;
use deft_needle_core::refusal::OddPath;
use deft_needle_core::root::{Kind, Root};
use deft_needle_core::run::{self, Exhibit, Exhibits, Notice, Run, Standing, Which, exhibit_root};
use deft_needle_core::sheet::Size;
use deft_needle_core::stamps::Stamps;
use deft_needle_proof::page::{
    HANDS_OVER, Mark, Room, TURNS, Told, files_beside, handing_over, turning,
};
use deft_needle_proof::sound::{Playable, playable};
use deft_needle_proof::{Card, Page, Side, Sounds, draw};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// What tells that a page is one of ours, near its beginning.
const OURS: &str = "<body data-id=\"";
/// Where that is looked for.
const HEAD: u64 = 1 << 16;
/// Slots that are drawn before the sounds of the first of them are put away.
const TOGETHER: usize = 16;
/// Parts of an outline.
const PARTS: u64 = 240;
/// Digits of the names of sounds beside a page.
const DIGITS: usize = 16;

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
        counted(proof.exhibits.all.len(), "slot"),
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
    if Kind::of(out)? == Kind::File && head(out).contains(OURS) {
        return Ok(());
    }
    Ok(refuse_existing(&[], out, overwrite)?)
}

/// The beginning of a file, as text; nothing where it cannot be read.
fn head(path: &Path) -> String {
    let mut head = Vec::new();
    if let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(HEAD).read_to_end(&mut head);
    }
    String::from_utf8_lossy(&head).into_owned()
}

/// What a page is made of.
pub struct Gathered {
    exhibits: Exhibits,
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
    let (target, root) = swap::aimed(slot, &args.how)?;
    let asked = swap::asked(&args.what, slot, &args.how, target, root)?;
    let run = Run::swap(asked, None)?;
    let title = format!("Proof of {} in {}", text(&args.what), text(slot));
    let proof = of_run(&run, title, observer)?;
    match proof.problems.first() {
        // One slot that cannot be made leaves nothing to show.
        Some(_) if proof.exhibits.all.is_empty() => {
            let (words, _) = &proof.problems[0];
            Err(Failure::usage(words.clone(), proof.help[0].clone().unwrap_or_default()))
        }
        _ => Ok(proof),
    }
}

fn of_run(run: &Run, title: String, observer: &Progress) -> Result<Gathered, Failure> {
    let disk = RealDisk::default();
    let (state, stamps) = match &run.root {
        Some(root) => (Ledger::peek(root)?, Stamps::load(&root.ledger)),
        None => Default::default(),
    };
    let plan = run.look(&state, &stamps, &disk, observer)?;
    let faults: Vec<_> = run.faults(&plan).collect();
    let exhibits = run.exhibit(&plan, &disk, observer)?;
    let root = run.root.as_ref().map(|root| shown(&root.path));
    let mut facts = vec![("target".to_owned(), run.target.sheet.name.clone())];
    facts.extend(root.map(|root| ("root".to_owned(), root)));
    let help = |fault| Some(error::core_remedy(fault)).filter(|help| !help.is_empty());
    Ok(Gathered {
        exhibits,
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
    let exhibits = exhibit_root(root, which, observer)?;
    Ok(Gathered {
        exhibits,
        title: format!("Proof of what is installed in {}", shown(&root.path)),
        job: String::new(),
        facts: vec![("root".to_owned(), shown(&root.path))],
        notices: Vec::new(),
        problems: Vec::new(),
        help: Vec::new(),
        _kept: None,
    })
}

/// The sounds of a page: some in it, the rest in files.
struct Away<'a> {
    /// The folder beside the page, by its name and where it is.
    files: String,
    folder: PathBuf,
    /// Bytes that may still go into the page.
    room: u64,
    disk: &'a RealDisk,
    /// What lies beside the page.
    used: BTreeSet<String>,
}

impl Away<'_> {
    fn put(&mut self, sound: Playable) -> Result<Sounds, Failure> {
        let length = u64::try_from(sound.bytes.len()).unwrap_or(u64::MAX);
        if let Some(left) = self.room.checked_sub(length) {
            self.room = left;
            return Ok(Sounds::Inline(sound));
        }
        // Once one lies outside, all that come do: what is in the page is heard at once.
        self.room = 0;
        let name = &Hash::of(&sound.bytes).hex()[..DIGITS];
        let [file, script] = [sound.extension, "js"].map(|extension| format!("{name}.{extension}"));
        let script_path = format!("{}/{script}", self.files);
        self.make(&file, &sound.bytes)?;
        self.make(&script, handing_over(&script_path, &sound).as_bytes())?;
        Ok(Sounds::Beside { file: format!("{}/{file}", self.files), script: script_path })
    }

    fn make(&mut self, name: &str, bytes: &[u8]) -> Result<(), Failure> {
        match Kind::of(&self.folder)? {
            Kind::Folder => {}
            Kind::Link => return Err(OddPath::Link.of(&self.folder).into()),
            _ => std::fs::create_dir_all(&self.folder)
                .map_err(|source| deft_needle_core::Error::write("make", &self.folder)(source))?,
        }
        let path = self.folder.join(name);
        if Kind::of(&path)? != Kind::Nothing && !is_ours(&path, name) {
            return Err(OddPath::Exists { in_target: false }.of(&path).into());
        }
        put_bytes(&path, bytes, self.disk)?;
        self.used.insert(name.to_owned());
        Ok(())
    }

    /// Removes what an earlier page had beside it; everything else stays.
    fn tidy(&self) {
        if !matches!(Kind::of(&self.folder), Ok(Kind::Folder)) {
            return;
        }
        let Ok(entries) = std::fs::read_dir(&self.folder) else {
            return;
        };
        for name in entries.flatten().filter_map(|entry| entry.file_name().into_string().ok()) {
            let path = self.folder.join(&name);
            if !self.used.contains(&name) && is_ours(&path, &name) {
                let _ = self.disk.remove(&path);
            }
        }
        // Only where nothing is left in it.
        let _ = std::fs::remove_dir(&self.folder);
    }
}

/// Whether a page put this file there. A name alone proves nothing: sounds of games are named by digits, too. A sound of a
/// page is named by its own hash, and its text begins as only such a text does.
fn is_ours(path: &Path, name: &str) -> bool {
    let named =
        |stem: &str| stem.len() == DIGITS && stem.bytes().all(|byte| byte.is_ascii_hexdigit());
    matches!(Kind::of(path), Ok(Kind::File))
        && match name.split_once('.') {
            Some((stem, "flac" | "wav")) if named(stem) => {
                Hash::of_file(path).is_ok_and(|hash| hash.hex().starts_with(stem))
            }
            Some((stem, "js")) if named(stem) => head(path).starts_with(HANDS_OVER),
            Some(("turn", "js")) => head(path).starts_with(TURNS),
            _ => false,
        }
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
        let mut cards = Vec::with_capacity(self.exhibits.all.len());
        for some in self.exhibits.all.chunks(TOGETHER) {
            let drawn: Vec<(Card, [Option<Playable>; 2])> =
                some.par_iter().map(|exhibit| card(exhibit, observer)).collect::<Result<_, _>>()?;
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
            away.make("turn.js", turning(turn).as_bytes())?;
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
        let bytes: u64 = self.exhibits.all.iter().map(|exhibit| exhibit.bytes).sum();
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

/// A slot, drawn, and what it sounds like.
fn card(
    exhibit: &Exhibit,
    observer: &dyn Observer,
) -> Result<(Card, [Option<Playable>; 2]), deft_needle_audio::Error> {
    let sound = |clip: &Option<Clip>| clip.as_ref().map(|c| playable(c, observer)).transpose();
    let drawn = |clip: &Option<Clip>, measured: &Option<run::Side>| {
        clip.as_ref().map(|clip| side(clip, measured.as_ref(), observer)).transpose()
    };
    let [before, after] = &exhibit.sides;
    let mut new = drawn(&exhibit.new, after)?;
    if let Some(new) = &mut new {
        new.marks.extend(marks_of(exhibit, new));
    }
    let kind = exhibit.new.as_ref().map(|clip| {
        let format = clip.facts().format;
        format!("{} {}", format.container, format.encoding.codec.facts().word)
    });
    let card = Card {
        number: 0,
        slot: exhibit.slot.clone(),
        clip: exhibit.clip.clone(),
        state: match exhibit.standing {
            Standing::New => "new",
            Standing::Unchanged => "unchanged",
            Standing::Installed(condition) => condition.words(),
        }
        .to_owned(),
        kind: kind.unwrap_or_else(|| "closed format".to_owned()),
        family: family_of(&exhibit.slot).map(|family| family.pattern),
        notices: exhibit.notices.iter().map(told).collect(),
        decisions: exhibit.decisions.iter().map(|d| (plan::line(d), plan::why(d))).collect(),
        lines: exhibit.lines.trim_end().to_owned(),
        stock: drawn(&exhibit.stock, before)?,
        new,
    };
    Ok((card, [sound(&exhibit.stock)?, sound(&exhibit.new)?]))
}

fn side(
    clip: &Clip,
    measured: Option<&run::Side>,
    observer: &dyn Observer,
) -> Result<Side, deft_needle_audio::Error> {
    let facts = clip.facts();
    let survey = measured.and_then(|side| side.survey.as_ref());
    let rate = facts.format.rate;
    let part = |frame: u64| u32::try_from(scaled(frame, PARTS, facts.frames.max(1))).unwrap_or(0);
    let clipped = survey.into_iter().flat_map(|survey| {
        let runs = survey.clipped.runs;
        survey.clipped.first.iter().enumerate().map(move |(at, range)| Mark {
            kind: "clipped",
            start: part(range.start),
            width: (part(range.end) - part(range.start)).max(1),
            words: match at {
                0 => format!(
                    "{}, the first at {}",
                    counted(usize::try_from(runs).unwrap_or(0), "place"),
                    Duration(rate.seconds(range.start))
                ),
                _ => format!("at {}", Duration(rate.seconds(range.start))),
            },
        })
    });
    Ok(Side {
        spec: facts.format.to_string(),
        seconds: facts.seconds(),
        length: Duration(facts.seconds()).to_string(),
        rate: rate.hertz(),
        frames: facts.frames,
        lufs: measured.and_then(|side| side.lufs),
        peak: survey.map(|survey| survey.true_peak_dbtp),
        looped: facts.loops.first().map(|Loop { range, .. }| (range.start, range.end)),
        marks: clipped.collect(),
        drawn: draw::draw(clip, observer)?,
        sound: Sounds::Nowhere,
    })
}

/// Fades, and what a limiter did.
fn marks_of(exhibit: &Exhibit, new: &Side) -> Vec<Mark> {
    let parts = |seconds: f64| {
        let share = (seconds / new.seconds.max(1e-6)).clamp(0.0, 1.0);
        let parts = deft_needle_audio::num::rounded(share * 240.0).max(1);
        u32::try_from(parts).unwrap_or(1)
    };
    let mut marks = Vec::new();
    for decision in &exhibit.decisions {
        if let Decision::Faded { seconds: [head, tail] } = decision {
            let mut fade = |seconds: f64, start: u32, words: &str| {
                if seconds > 0.0 {
                    let words = format!("{words} over {}", Duration(seconds));
                    marks.push(Mark { kind: "fade", start, width: parts(seconds), words });
                }
            };
            fade(*head, 0, "in");
            fade(*tail, 240 - parts(*tail).min(240), "out");
        }
    }
    let limited = exhibit.outcome.as_ref().map(|outcome| outcome.limited);
    if let Some(limited) = limited.filter(|limited| limited.frames > 0) {
        let seconds = deft_needle_audio::num::real(limited.frames) / f64::from(new.rate.max(1));
        let words = format!("by up to {:.1} dB, for {}", limited.most.abs(), Duration(seconds));
        marks.push(Mark { kind: "limited", start: 0, width: 0, words });
    }
    marks
}

/// A notice, and the option that answers it.
fn told(found: &Notice) -> Told {
    let text = notice::words(found);
    let help = answer(&text);
    Told { text, help }
}

/// The first option in a sentence, with its value where it has one.
fn answer(text: &str) -> Option<String> {
    let mut words = text.split_whitespace().map(|word| word.trim_end_matches([',', ';', ':', '.']));
    let name = words.find_map(|word| word.strip_prefix("--"))?;
    let value = match option(name)?.value {
        ValueKind::Flag => None,
        _ => words.next(),
    };
    Some(value.map_or_else(|| format!("--{name}"), |value| format!("--{name} {value}")))
}
