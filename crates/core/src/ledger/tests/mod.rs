//! Swaps and restores with a fault at every call that changes the disk: the slot holds what it held
//! before or what it should hold after, and the stock always comes back.

use super::record::Installed;
use super::*;
use crate::hash::Hash;

mod edits;
mod model;
use crate::disk::tests::faulty::{
    self, AfterRemoval, CaseBlindDisk, Fault, FaultyDisk, ForgetfulDisk, FullDisk, Loss,
};
use crate::disk::{Attributes, RealDisk};
use crate::names::Key;
use crate::names::LEDGER_FOLDER;
use crate::root::{Found, RootAsk};
use crate::run::{Ask, Run, Session};
use crate::run::{Changed, Condition, Proof, Restored, Swap, Which, restore, status};
use crate::sheet::Method;
use crate::tree::files_below;
use deft_needle_audio::Clip;
use deft_needle_audio::block::Samples;
use deft_needle_audio::edit::Request;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::read::Input;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::spec::Output;
use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Cursor};
use std::sync::Arc;
use tempfile::TempDir;

/// A root with stock, and clips beside it.
struct World {
    folder: TempDir,
}

/// A target of two roots with a cache, two lists and a script that are told of every slot, a file that is made
/// for each and one that comes with its clip.
const TARGET: &str = r#"
name = "Card"
roots = ["card", "settings"]
clear = "*.idx"
companions = { match = "**/*.PRM", extension = "lip" }

[[slots]]
in-root = "."

[[rule]]
match = "**/*.PRM"
spec = "wav pcm8 18900 mono"
extensions = ["PRM"]
new = "any"
loop-file = { file = "{folder}/{stem}.pts", text = "{loop.start} {loop.end}\n" }

[[rule]]
match = "whole.txt"
spec = "opaque"

[[entry]]
match = "**/*.PRM"
file = "whole.txt"
value = "{stem}"

[[entry]]
match = "**/*.PRM"
file = "names.json"
at = "/names/-"
value = "{stem}"

[[entry]]
match = "**/*.PRM"
root = "settings"
file = "mix.ini"
at = "Mixer/Banks"
value = "+{stem}"
separator = ";"

[[entry]]
match = "**/*.PRM"
root = "settings"
file = "noises.def"
format = "script"
at = '^noise "last"'
put = "before"
value = 'noise "{stem}"'

[[make]]
match = "**/*.PRM"
file = "CARDS/{stem}.txt"
text = "card of {slot}\n"
"#;

/// A job, and the same once it was changed: one slot has another clip, one is new, one is named no more.
const JOBS: [&str; 2] = [
    "target = 'target.toml'\nroots = { card = 'card', settings = 'settings' }\n\
     [[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'a.wav'\n\
     [[replace]]\nslot = 'whole.txt'\nclip = 'whole.txt'\n\
     [[replace]]\nslot = 'NEW/DEEP/X.PRM'\nclip = 'b.wav'\n",
    "target = 'target.toml'\nroots = { card = 'card', settings = 'settings' }\n\
     [[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'b.wav'\ngain = '-3dB'\n\
     [[replace]]\nslot = 'SAY/TICK02.PRM'\nclip = 'a.wav'\n",
];

const STOCK: [&str; 3] = ["SAY/TICK01.PRM", "SAY/TICK02.PRM", "notes.txt"];

fn sound(spec: &str, frames: usize, level: f64) -> Vec<u8> {
    let format: Format = spec.parse().unwrap();
    let samples: Vec<f64> = (0..frames).map(|i| level * (i as f64 * 0.21).sin()).collect();
    let output = Output::plain(format, frames as u64);
    let channels = vec![samples; usize::from(format.channels.count())];
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, channels);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    bytes.into_inner()
}

impl World {
    fn new() -> Self {
        let world = Self { folder: faulty::folder() };
        fs::create_dir_all(world.root().join("SAY")).unwrap();
        for (index, slot) in STOCK.iter().enumerate() {
            let bytes = match slot.ends_with("PRM") {
                true => sound("wav pcm8 18900 mono", 900 + index, 0.5),
                false => b"some notes".to_vec(),
            };
            fs::write(world.root().join(slot), bytes).unwrap();
        }
        fs::create_dir_all(world.folder.path().join("settings")).unwrap();
        for (name, text) in [
            ("target.toml", TARGET),
            ("settings/mix.ini", "; mine\r\n[Mixer]\r\nBanks=BASE\r\n"),
            ("settings/noises.def", "// all\r\nnoise \"last\" {\r\n}\r\n"),
            ("card/SAY/TICK01.lip", "old"),
            ("a.lip", "lips of a"),
            ("card/names.json", "{\n  \"names\": [\"one\"]\n}\n"),
            ("card/warm.idx", "cache"),
            ("card/whole.txt", "stock\n"),
            ("card/SAY/TICK01.pts", "0 900\n"),
            ("whole.txt", "ours\n"),
        ] {
            fs::write(world.folder.path().join(name), text).unwrap();
        }
        for (name, level) in [("a.wav", 0.3), ("b.wav", 0.6)] {
            let bytes = sound("wav pcm16 44100 stereo", 2000, level);
            fs::write(world.folder.path().join(name), bytes).unwrap();
        }
        world
    }

    fn root(&self) -> PathBuf {
        self.folder.path().join("card")
    }

    fn at(&self) -> Root {
        RootAsk::default().certain(&self.root(), Found::Named).unwrap()
    }

    fn ledger(&self) -> PathBuf {
        crate::root::usual_folder(&self.root())
    }

    /// Every file of both roots but the ledger's and caches, parts too.
    fn contents(&self) -> BTreeMap<String, Vec<u8>> {
        let mut all = BTreeMap::new();
        for root in ["card", "settings"] {
            let root = self.folder.path().join(root);
            for entry in walkdir::WalkDir::new(&root).into_iter().flatten() {
                let name = entry.path().strip_prefix(self.folder.path()).unwrap();
                let name = name.to_string_lossy().replace('\\', "/");
                let mut name = name.strip_prefix("card/").unwrap_or(&name).to_owned();
                let own = name.starts_with(LEDGER_FOLDER) || name.ends_with(".idx");
                if entry.file_type().is_file() && !own {
                    // A file that only its maker may read is another one.
                    #[cfg(unix)]
                    if std::os::unix::fs::MetadataExt::mode(&entry.metadata().unwrap()) & 0o077 == 0
                    {
                        name.push_str(" (private)");
                    }
                    all.insert(name, fs::read(entry.path()).unwrap());
                }
            }
        }
        all
    }

    /// Does a job, whose sheet is one of these.
    fn install(&self, job: &str, disk: &dyn Disk) -> Result<()> {
        let path = self.folder.path().join("job.toml");
        fs::write(&path, job).unwrap();
        let run = Run::open(&path, Ask::default(), &Unobserved)?;
        let session = Session::open(run, disk, &Unobserved)?;
        session.carry_out(disk, &Unobserved).map(drop)
    }

    fn swap(&self, clip: &str, slot: &str, disk: &dyn Disk) -> Result<()> {
        let root = self.at();
        let new = slot.starts_with("NEW");
        let swap = Swap {
            clip: Input::file(&self.folder.path().join(clip)),
            slot: &root.path.join(slot),
            target: None,
            request: match new {
                true => Request::read([("spec", "wav pcm8 18900 mono")]).unwrap(),
                false => Request::default(),
            },
            like: None,
            making: Method::Fit,
            link: None,
            name_anyway: false,
            new,
            entries: false,
            allow_commands: false,
            root: root.clone(),
        };
        let run = Run::swap(swap, Some(disk))?;
        Session::open(run, disk, &Unobserved)?.carry_out(disk, &Unobserved).map(drop)
    }

    fn restore(&self, slots: &[Key], changed: Changed, disk: &dyn Disk) -> Result<Restored> {
        if !self.ledger().is_dir() {
            return Ok(Restored::default());
        }
        let which = match slots {
            [] => Which::All,
            slots => Which::Slots(slots),
        };
        restore(&self.at(), which, changed, false, disk)
    }
}

fn key(text: &str) -> Key {
    Key::parse(text).unwrap()
}

/// What is done with a fault somewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Act {
    First,
    Again,
    New,
    Restore,
    /// A whole job.
    Install,
    /// The same job once its sheet was changed.
    Update,
    /// All that a job and a swap over it have put in.
    RestoreJob,
}

impl Act {
    fn prepare(self, world: &World) {
        let disk = RealDisk::default();
        match self {
            Self::First | Self::New | Self::Install => {}
            Self::Update => world.install(JOBS[0], &disk).unwrap(),
            Self::RestoreJob => {
                world.install(JOBS[0], &disk).unwrap();
                world.swap("b.wav", STOCK[0], &disk).unwrap();
            }
            Self::Again => world.swap("a.wav", STOCK[0], &disk).unwrap(),
            Self::Restore => {
                for slot in [STOCK[0], STOCK[1], "NEW/DEEP/X.PRM"] {
                    world.swap("a.wav", slot, &disk).unwrap();
                }
            }
        }
    }

    fn run(self, world: &World, disk: &dyn Disk) -> Result<()> {
        match self {
            Self::First => world.swap("a.wav", STOCK[0], disk),
            Self::Again => world.swap("b.wav", STOCK[0], disk),
            Self::New => world.swap("a.wav", "NEW/DEEP/X.PRM", disk),
            Self::Install => world.install(JOBS[0], disk),
            Self::Update => world.install(JOBS[1], disk),
            Self::Restore | Self::RestoreJob => world.restore(&[], Changed::Refuse, disk).map(drop),
        }
    }
}

const ACTS: [Act; 7] =
    [Act::First, Act::Again, Act::New, Act::Restore, Act::Install, Act::Update, Act::RestoreJob];

/// The root's files as stock, before and after an act.
struct Expected {
    stock: BTreeMap<String, Vec<u8>>,
    before: BTreeMap<String, Vec<u8>>,
    after: BTreeMap<String, Vec<u8>>,
}

impl Expected {
    fn of(act: Act) -> Self {
        let world = World::new();
        let stock = world.contents();
        act.prepare(&world);
        let before = world.contents();
        act.run(&world, &RealDisk::default()).unwrap();
        let after = world.contents();
        assert!(before != after);
        Self { stock, before, after }
    }
}

/// Runs one act with a fault at call `at`; gives whether the fault came at all.
fn strike(act: Act, at: usize, fault: Fault, loss: Option<Loss>, expected: &Expected) -> bool {
    let Expected { stock, before, after } = expected;
    let world = World::new();
    act.prepare(&world);
    let what = format!("{act:?}, {fault:?} at call {at}, {loss:?}");

    let forgetful = ForgetfulDisk::new(&world.root());
    let inner: Arc<dyn Disk + Send + Sync> = match loss {
        Some(_) => Arc::new(forgetful.clone()),
        None => Arc::new(RealDisk::default()),
    };
    let disk = FaultyDisk::new(inner, at, fault);
    let result = act.run(&world, &disk);
    if let Some(loss) = loss {
        forgetful.lose_power(loss);
    }
    // The next command that can write sets right what was left in the middle.
    let (root, real) = (world.at(), RealDisk::default());
    let opened = Ledger::open(&root, &real);
    drop(opened.unwrap_or_else(|error| panic!("{what}: {error}")));
    let now = world.contents();
    assert!(now == *before || now == *after, "{what}: neither before nor after");
    if result.is_ok() {
        assert!(now == *after, "{what}: said to be done");
    }
    world
        .restore(&[], Changed::Refuse, &RealDisk::default())
        .unwrap_or_else(|error| panic!("{what}: {error}"));
    assert!(world.contents() == *stock, "{what}: the stock is not back");
    assert!(!world.ledger().exists(), "{what}: a ledger of nothing is left");
    disk.struck()
}

#[test]
fn a_fault_at_any_call_leaves_before_or_after_and_loses_no_stock() {
    let mut runs = 0;
    for act in ACTS {
        let expected = Expected::of(act);
        for (fault, loss) in [
            (Fault::Error, None),
            (Fault::Kill, None),
            (Fault::Kill, Some(Loss::NamesAndContents)),
            (Fault::Kill, Some(Loss::Contents)),
        ] {
            let calls = (0..1000).take_while(|at| strike(act, *at, fault, loss, &expected)).count();
            assert!(calls >= 15, "{act:?} makes only {calls} calls");
            runs += calls;
        }
    }
    assert!(runs > 300, "{runs}");
}

#[test]
fn the_first_stock_stays_the_stock() {
    let world = World::new();
    let stock = world.contents();
    let disk = RealDisk::default();
    for clip in ["a.wav", "b.wav", "a.wav"] {
        world.swap(clip, STOCK[0], &disk).unwrap();
    }
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(world.contents(), stock);
}

#[test]
fn a_vendors_update_is_noticed_and_both_generations_are_kept() {
    let disk = RealDisk::default();
    let updated = sound("wav pcm16 9450 mono", 700, 0.4);
    for keep in [Changed::Overwrite, Changed::Keep] {
        let world = World::new();
        let stock = world.contents();
        let slot = world.root().join(STOCK[0]);
        world.swap("a.wav", STOCK[0], &disk).unwrap();
        fs::write(&slot, &updated).unwrap();
        let root = world.at();
        let conditions = |root| status(root, Which::All, Proof::Look).unwrap().slots[0].condition;
        assert_eq!(conditions(&root), Condition::Changed);
        assert!(matches!(world.restore(&[], Changed::Refuse, &disk), Err(Error::Changed { .. })));
        assert_eq!(fs::read(&slot).unwrap(), updated);

        // The spec of the new file counts, and both generations are in the ledger.
        world.swap("b.wav", STOCK[0], &disk).unwrap();
        assert_eq!(Clip::open(&slot).unwrap().facts().format.to_string(), "wav pcm16 9450 mono");
        let kept = |bytes: &[u8]| kept_in(&root.ledger, Hash::of(bytes)).is_file();
        assert!(kept(&stock[STOCK[0]]) && kept(&updated));
        fs::write(&slot, b"something else").unwrap();
        world.restore(&[], keep, &disk).unwrap();
        let expected = match keep {
            Changed::Keep => b"something else".to_vec(),
            _ => updated.clone(),
        };
        assert_eq!(fs::read(&slot).unwrap(), expected);
        assert!(kept(&stock[STOCK[0]]), "the older stock is gone");
        let is_there = fs::read(&slot).unwrap() == b"something else";
        assert!(is_there || kept(b"something else"), "what was there is gone");
    }
}

#[test]
fn our_own_file_gone_missing_is_no_new_stock() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    fs::remove_file(world.root().join(STOCK[0])).unwrap();
    world.swap("b.wav", STOCK[0], &disk).unwrap();
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(world.contents(), stock);
}

#[test]
fn damaged_stock_is_told_and_keeps_nothing_else_from_being_restored() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    let hash = Hash::of_file(&world.root().join(STOCK[0])).unwrap();
    for slot in [STOCK[0], STOCK[1]] {
        world.swap("a.wav", slot, &disk).unwrap();
    }
    let installed = world.contents();
    let lost = |proof| {
        let found = status(&world.at(), Which::All, proof).unwrap().slots;
        found.iter().map(|slot| slot.stock_lost).collect::<Vec<_>>()
    };
    assert_eq!(lost(Proof::Verify), [false, false]);
    fs::write(kept_in(&world.ledger(), hash), b"rot").unwrap();
    assert_eq!((lost(Proof::Look), lost(Proof::Verify)), (vec![false; 2], vec![true, false]));
    let done = world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert!(matches!(done.failed[0].error, Error::StockDamaged { .. }));
    assert_eq!(done.restored, [key(STOCK[1])]);
    let now = world.contents();
    assert_eq!((&now[STOCK[0]], &now[STOCK[1]]), (&installed[STOCK[0]], &stock[STOCK[1]]));
    fs::remove_file(kept_in(&world.ledger(), hash)).unwrap();
    assert_eq!(lost(Proof::Look), [true]);
    // A slot that has become a folder is told in the same way.
    world.swap("b.wav", STOCK[1], &disk).unwrap();
    fs::remove_file(world.root().join(STOCK[0])).unwrap();
    fs::create_dir(world.root().join(STOCK[0])).unwrap();
    let done = world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!((done.failed.len(), done.restored), (1, vec![key(STOCK[1])]));
}

#[test]
fn two_runs_keep_apart() {
    let (world, disk) = (World::new(), RealDisk::default());
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    let first = Ledger::open(&world.at(), &disk).unwrap();
    let second = world.swap("b.wav", STOCK[1], &disk).unwrap_err();
    assert!(second.to_string().contains("Busy"), "{second}");
    drop(first);
    world.swap("b.wav", STOCK[1], &disk).unwrap();
}

#[test]
fn what_another_run_did_meanwhile_is_never_taken_for_stock() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    let path = world.folder.path().join("job.toml");
    fs::write(&path, JOBS[0]).unwrap();
    let run = Run::open(&path, Ask::default(), &Unobserved).unwrap();
    let session = Session::open(run, &disk, &Unobserved).unwrap();
    world.swap("b.wav", STOCK[0], &disk).unwrap();
    let swapped = world.contents();
    let refused = session.carry_out(&disk, &Unobserved).unwrap_err();
    assert!(refused.to_string().contains("Raced"), "{refused}");
    assert_eq!(world.contents(), swapped);
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(world.contents(), stock);
}

#[test]
fn nothing_leads_out_of_the_root() {
    let world = World::new();
    let before = world.contents();
    for slot in ["../a.wav", "SAY/../../a.wav", ".deft-needle/ledger.log", "SAY"] {
        let refused = world.swap("b.wav", slot, &RealDisk::default());
        assert!(matches!(refused, Err(Error::Refused { .. })), "{slot}: {refused:?}");
    }
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink(world.folder.path(), world.root().join("out")).unwrap();
        let refused = world.swap("b.wav", "out/a.wav", &RealDisk::default());
        assert!(matches!(refused, Err(Error::Refused { .. })), "{refused:?}");
        fs::remove_file(world.root().join("out")).unwrap();
    }
    assert_eq!(world.contents(), before);
    assert_eq!(files_below(&world.root()).unwrap().len(), STOCK.len() + 5);
}

#[test]
fn jobs_lie_one_over_the_other_and_come_out_in_order() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    let named = |name: &str, job: &str| format!("name = '{name}'\n{job}");
    world.install(&named("lower", JOBS[0]), &disk).unwrap();
    let lower = world.contents();
    world.install(&named("upper", JOBS[1]), &disk).unwrap();
    let root = world.at();
    let take_out = |which| restore(&root, which, Changed::Refuse, false, &disk);
    // The lower one stays until the upper one is out, and cannot be changed below it.
    let refused = take_out(Which::Job("lower")).unwrap_err().to_string();
    assert!(refused.contains("lower: Some(\"lower\"), upper: Some(\"upper\")"), "{refused}");
    assert!(world.install(&named("lower", JOBS[1]), &disk).is_err());
    assert!(take_out(Which::Job("other")).is_err());
    let all = status(&root, Which::All, Proof::Look).unwrap();
    let tick = all.slots.iter().find(|slot| slot.slot == key(STOCK[0])).unwrap();
    assert_eq!(tick.below, [Some("lower".to_owned())]);
    let out = take_out(Which::Job("upper")).unwrap();
    assert_eq!(out.uncovered, [key(STOCK[0])]);
    assert_eq!(world.contents(), lower);
    world.install(&named("upper", JOBS[1]), &disk).unwrap();
    take_out(Which::All).unwrap();
    assert_eq!(world.contents(), stock);
    assert!(!root.ledger.exists());
}

#[test]
fn only_our_entries_go_where_others_have_written_since() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    world.install(JOBS[0], &disk).unwrap();
    assert!(!world.root().join("warm.idx").exists(), "the cache is still there");
    let path = world.folder.path().join("settings/mix.ini");
    let text = fs::read_to_string(&path).unwrap();
    assert_eq!(text, "; mine\r\n[Mixer]\r\nBanks=BASE;TICK01;X\r\n");
    fs::write(&path, text.replace("BASE", "BASE;OURS").replace(";X", ";X;LAST") + "[New]\r\n")
        .unwrap();
    // Ours stay where they stand when the job is done again.
    let edited = fs::read_to_string(&path).unwrap();
    world.install(JOBS[0], &disk).unwrap();
    assert_eq!(fs::read_to_string(&path).unwrap(), edited);
    let root = world.at();
    let entries = status(&root, Which::All, Proof::Look).unwrap().entries;
    assert_eq!(entries.len(), 8);
    assert!(entries.iter().all(|entry| entry.condition == Condition::Installed));
    // Other entries of ours since then do not make the file ours.
    world.install(JOBS[1], &disk).unwrap();
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    let mut now = world.contents();
    let mixed = now.insert("settings/mix.ini".to_owned(), stock["settings/mix.ini"].clone());
    let mixed = String::from_utf8(mixed.unwrap()).unwrap();
    assert_eq!(mixed, "; mine\r\n[Mixer]\r\nBanks=BASE;OURS;LAST\r\n[New]\r\n");
    assert_eq!(now, stock);
}

#[test]
fn a_root_that_is_gone_is_waited_for() {
    let expected = Expected::of(Act::Install);
    let mut waited = 0;
    for at in 0.. {
        let world = World::new();
        let disk = FaultyDisk::new(Arc::new(RealDisk::default()), at, Fault::Kill);
        let _ = Act::Install.run(&world, &disk);
        let (here, away) = (world.folder.path().join("settings"), world.folder.path().join("away"));
        fs::rename(&here, &away).unwrap();
        let real = RealDisk::default();
        let gone = Ledger::open(&world.at(), &real).map(drop);
        fs::rename(&away, &here).unwrap();
        if let Err(error) = gone {
            assert!(error.to_string().contains("Away"), "{error}");
            waited += 1;
        }
        drop(Ledger::open(&world.at(), &real).unwrap());
        let now = world.contents();
        assert!(now == expected.before || now == expected.after, "call {at}");
        world.restore(&[], Changed::Refuse, &real).unwrap();
        assert_eq!(world.contents(), expected.stock, "call {at}");
        if !disk.struck() {
            break;
        }
    }
    // Only what had begun to be placed is waited for.
    assert!(waited > 5, "{waited}");
}

#[test]
fn a_damaged_log_loses_nothing_while_its_twin_is_whole() {
    let disk = RealDisk::default();
    for which in ["ledger.log", "stock/ledger.log"] {
        for harm in 0..8 {
            let world = World::new();
            let stock = world.contents();
            world.install(JOBS[0], &disk).unwrap();
            world.swap("b.wav", STOCK[1], &disk).unwrap();
            let path = world.ledger().join(which);
            let whole = fs::read(&path).unwrap();
            let mut bytes = whole.clone();
            match harm {
                0 => fs::remove_file(&path).unwrap(),
                1 => bytes.clear(),
                2 => bytes = vec![0; 3000],
                3 => bytes = b"not a log\n".repeat(40),
                4 => bytes.truncate(whole.len() / 3),
                5 => bytes[whole.len() / 2] ^= 0x40,
                6 => bytes[3] ^= 1,
                _ => bytes.truncate(whole.iter().position(|b| *b == b'\n').unwrap() + 1),
            }
            if harm > 0 {
                fs::write(&path, &bytes).unwrap();
            }
            drop(Ledger::open(&world.at(), &disk).unwrap());
            assert_eq!(fs::read(&path).unwrap(), whole, "{which}, harm {harm}");
            world.restore(&[], Changed::Refuse, &disk).unwrap();
            assert_eq!(world.contents(), stock, "{which}, harm {harm}");
        }
    }
}

#[test]
fn with_both_logs_damaged_nothing_is_deleted_and_a_rescue_restores_what_is_sure() {
    let disk = RealDisk::default();
    for harm in 0..4 {
        let world = World::new();
        let stock = world.contents();
        world.swap("a.wav", STOCK[0], &disk).unwrap();
        world.swap("b.wav", STOCK[1], &disk).unwrap();
        world.swap("b.wav", "NEW/DEEP/X.PRM", &disk).unwrap();
        let installed = world.contents();
        let copies = LedgerDir::new(&world.ledger()).copies();
        for which in ["ledger.log", "stock/ledger.log"] {
            let path = world.ledger().join(which);
            let mut bytes = fs::read(&path).unwrap();
            match harm {
                0 => fs::remove_file(&path).unwrap(),
                1 => bytes = b"garbage\n".repeat(30),
                2 => bytes[5] ^= 1,
                _ => bytes = bytes.split_off(bytes.len() / 2),
            }
            if harm > 0 {
                fs::write(&path, &bytes).unwrap();
            }
        }
        for refused in [
            world.swap("b.wav", STOCK[0], &disk),
            world.install(JOBS[0], &disk),
            world.restore(&[], Changed::Refuse, &disk).map(drop),
        ] {
            assert!(matches!(refused, Err(Error::Damaged { .. })), "{harm}: {refused:?}");
        }
        assert!(
            world.contents() == installed && LedgerDir::new(&world.ledger()).copies() == copies
        );
        // What the records have lost, a list of the target's still tells.
        let hash = |slot: &str| (slot.to_owned(), Hash::of(&stock[slot]));
        let listed = BTreeMap::from([hash(STOCK[0]), hash(STOCK[1])]);
        let rescued = rescue::rescue(&world.at(), &listed, &disk).unwrap();
        assert!(rescued.strays.is_empty() && rescued.failed.is_empty(), "{harm}: {rescued:?}");
        let mut now = world.contents();
        let new = now.remove("NEW/DEEP/X.PRM").is_some();
        assert!(now == stock && new == (harm < 2), "{harm}");
        // And work goes on.
        world.swap("a.wav", STOCK[1], &disk).unwrap();
        world.restore(&[], Changed::Refuse, &disk).unwrap();
        assert_eq!(world.contents()[STOCK[1]], stock[STOCK[1]]);
    }
}

#[test]
fn a_copy_that_no_record_names_is_never_deleted() {
    let (world, disk) = (World::new(), RealDisk::default());
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    let stray = kept_in(&world.ledger(), Hash::of(b"somebody's"));
    fs::write(&stray, b"somebody's").unwrap();
    let refused = world.restore(&[], Changed::Refuse, &disk);
    assert!(matches!(refused, Err(Error::Damaged { .. })), "{refused:?}");
    rescue::rescue(&world.at(), &BTreeMap::new(), &disk).unwrap();
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(fs::read(&stray).unwrap(), b"somebody's");
}

#[test]
fn one_file_has_one_name_where_the_disk_ignores_case_and_accents() {
    let (world, disk) = (World::new(), CaseBlindDisk);
    let accent = "SAY/K\u{e4}se.PRM";
    fs::write(world.root().join(accent), sound("wav pcm8 18900 mono", 300, 0.2)).unwrap();
    let stock = world.contents();
    for (first, second) in [(STOCK[0], "say/tick01.prm"), (accent, "Say/KA\u{308}SE.PRM")] {
        world.swap("a.wav", first, &disk).unwrap();
        world.swap("b.wav", second, &disk).unwrap();
        let found = status(&world.at(), Which::All, Proof::Verify).unwrap().slots;
        assert_eq!(found.len(), 1, "{first}");
        assert_eq!(found[0].slot, key(first));
        world.restore(&[], Changed::Refuse, &disk).unwrap();
        assert_eq!(world.contents(), stock);
    }
    // The ledger is not entered under any spelling, nor a file known twice while it is gone.
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    for slot in [".Deft-Needle/stock/x", ".DEFT-NEEDLE/ledger.log"] {
        assert!(world.swap("b.wav", slot, &disk).is_err(), "{slot}");
    }
    fs::remove_file(world.root().join(STOCK[0])).unwrap();
    let refused = world.swap("b.wav", "SAY/Tick01.PRM", &disk).unwrap_err();
    assert!(refused.to_string().contains("Spelt"), "{refused}");
}

#[test]
fn a_restore_needs_no_free_space() {
    let real = RealDisk::default();
    for is_one_copy in [false, true] {
        let world = World::new();
        // More than the room that is held back for the log.
        for (at, slot) in STOCK[..2].iter().enumerate() {
            let large = sound("wav pcm8 18900 mono", 90_000 + at, 0.5);
            fs::write(world.root().join(slot), large).unwrap();
        }
        if is_one_copy {
            // Of what both slots hold one copy is kept: the first must not take it from the second.
            fs::copy(world.root().join(STOCK[0]), world.root().join(STOCK[1])).unwrap();
        }
        let stock = world.contents();
        world.install(JOBS[0], &real).unwrap();
        world.swap("b.wav", STOCK[1], &real).unwrap();
        // One copy cannot be two files: where there is no room for the second, nothing happens.
        let ours = world.contents();
        if is_one_copy {
            let refused = world.restore(&[], Changed::Refuse, &FullDisk::new(0)).unwrap_err();
            assert!(refused.is_full(), "{refused:?}");
            assert_eq!(world.contents(), ours);
        }
        // Room for what is held back for the log and for one of both: the other is the copy itself.
        let full = FullDisk::new(if is_one_copy { 150_000 } else { 0 });
        let done = world.restore(&[], Changed::Refuse, &full).unwrap();
        assert!(done.failed.is_empty(), "{done:?}");
        assert_eq!(world.contents(), stock);
        assert!(!world.ledger().exists());
    }
}

/// What is held back for the log grows with what is installed.
#[test]
fn nor_does_a_restore_of_many_slots() {
    let world = World::new();
    let slots: Vec<Key> = (0..300).map(|at| key(&format!("MANY/{at:03}.PRM"))).collect();
    fs::create_dir(world.root().join("MANY")).unwrap();
    for slot in &slots {
        fs::write(slot.path(&world.root()), format!("stock of {slot}")).unwrap();
    }
    let (stock, disk) = (world.contents(), RealDisk::default());
    let mut ledger = Ledger::open(&world.at(), &disk).unwrap();
    let mut change = ledger.begin(What::Install, &slots, Vec::new(), Vec::new()).unwrap();
    for slot in &slots {
        let ours = format!("ours for {slot}");
        crate::disk::write_part(&change.part(slot).unwrap(), ours.as_bytes(), &disk).unwrap();
        change.install(slot, Hash::of(ours.as_bytes()), Installed::default(), None).unwrap();
    }
    change.finish().unwrap();
    drop(ledger);
    let done = world.restore(&[], Changed::Refuse, &FullDisk::new(0)).unwrap();
    assert!(done.failed.is_empty(), "{done:?}");
    assert_eq!(world.contents(), stock);
    assert!(!world.ledger().exists());
}

#[test]
fn a_full_disk_keeps_what_it_holds_and_says_so() {
    let world = World::new();
    let before = world.contents();
    let mut refused = 0;
    for free in (0..120_000).step_by(9_000) {
        let full = FullDisk::new(free);
        match world.install(JOBS[0], &full) {
            Err(error) => {
                assert!(error.is_full() || matches!(error, Error::Slot { .. }), "{error:?}");
                assert_eq!(world.contents(), before, "{free}");
                refused += 1;
            }
            Ok(()) => {
                world.restore(&[], Changed::Refuse, &RealDisk::default()).unwrap();
            }
        }
        assert!(!world.ledger().exists(), "{free}");
    }
    assert!(refused > 1, "{refused}");
}

#[cfg(unix)]
#[test]
fn restored_files_have_all_that_they_had() {
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
    let (world, disk) = (World::new(), RealDisk::default());
    let files = [STOCK[0], STOCK[1], "names.json", "../settings/mix.ini"];
    // Both slots hold the same bytes, and yet each its own time.
    fs::copy(world.root().join(STOCK[0]), world.root().join(STOCK[1])).unwrap();
    fs::hard_link(world.root().join(STOCK[1]), world.root().join("SAY/OTHER.PRM")).unwrap();
    for (at, file) in files.iter().enumerate() {
        let path = world.root().join(file);
        let open = fs::File::options().write(true).open(&path).unwrap();
        let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000 + at as u64);
        open.set_modified(time).unwrap();
        let mode = 0o600 | ((0o11 * at as u32) & 0o77);
        fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
        let _ = xattr::set(&path, "user.note", format!("note {at}").as_bytes());
    }
    let look = |file: &&str| Attributes::of(&world.root().join(file)).unwrap();
    let before: Vec<Attributes> = files.iter().map(look).collect();
    world.install(JOBS[1], &disk).unwrap();
    let copies = LedgerDir::new(&world.ledger());
    for copy in copies.copies() {
        let mode = fs::metadata(copies.stock().join(copy)).unwrap().mode();
        assert_eq!(mode & 0o77, 0, "a private original is readable to others");
    }
    // A slot that somebody deleted gets its mode back all the same.
    fs::remove_file(world.root().join(STOCK[0])).unwrap();
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    let after: Vec<Attributes> = files.iter().map(look).collect();
    assert_eq!(after, before);
    let number = |file: &str| fs::metadata(world.root().join(file)).unwrap().ino();
    assert_eq!(number(STOCK[1]), number("SAY/OTHER.PRM"), "it is no hard link any more");
}

#[cfg(unix)]
#[test]
fn links_lead_nowhere() {
    use std::os::unix::fs::symlink;
    let disk = RealDisk::default();
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("precious"), b"precious").unwrap();
    let untouched = || {
        let names = crate::tree::names_in(outside.path());
        assert_eq!(names, ["precious"]);
        assert_eq!(fs::read(outside.path().join("precious")).unwrap(), b"precious");
    };
    // Within the ledger's folder, and the folder itself.
    for (link, target) in [
        ("stock", outside.path().to_owned()),
        ("ledger.log", outside.path().join("precious")),
        ("stock/ledger.log", outside.path().join("precious")),
        ("lock", outside.path().join("precious")),
        ("", outside.path().to_owned()),
    ] {
        let world = World::new();
        world.swap("a.wav", STOCK[0], &disk).unwrap();
        let path = match link {
            "" => world.ledger(),
            link => world.ledger().join(link),
        };
        let away = world.folder.path().join("away");
        if path.exists() {
            fs::rename(&path, &away).unwrap();
        }
        symlink(&target, &path).unwrap();
        for refused in [
            world.restore(&[], Changed::Refuse, &disk).map(drop),
            world.swap("b.wav", STOCK[1], &disk),
        ] {
            assert!(matches!(refused, Err(Error::Refused { .. })), "{link}: {refused:?}");
        }
        untouched();
    }
    // A folder of slots, of entries, of the second root, that has become a link since.
    for folder in ["card/SAY", "settings"] {
        let world = World::new();
        world.install(JOBS[0], &disk).unwrap();
        let path = world.folder.path().join(folder);
        fs::rename(&path, world.folder.path().join("away")).unwrap();
        symlink(outside.path(), &path).unwrap();
        let _ = world.restore(&[], Changed::Overwrite, &disk);
        let _ = world.install(JOBS[1], &disk);
        untouched();
    }
    // A list that is a link comes back as a link.
    let world = World::new();
    let list = world.root().join("names.json");
    fs::rename(&list, world.root().join("real.json")).unwrap();
    symlink("real.json", &list).unwrap();
    world.install(JOBS[0], &disk).unwrap();
    assert!(fs::read_to_string(&list).unwrap().contains("TICK01"));
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(fs::read_link(&list).unwrap(), Path::new("real.json"));
    // One that leads out is not read.
    fs::remove_file(&list).unwrap();
    symlink(outside.path().join("precious"), &list).unwrap();
    assert!(world.install(JOBS[0], &disk).is_err());
    untouched();
}

#[test]
fn a_file_in_two_roots_has_one_key() {
    let (world, disk) = (World::new(), RealDisk::default());
    let mut root = world.at();
    root.others = BTreeMap::from([
        ("say".to_owned(), world.root().join("SAY")),
        ("all".to_owned(), world.folder.path().to_owned()),
    ]);
    let ledger = Ledger::open(&root, &disk).unwrap();
    let keys = [
        ledger.key(None, "SAY/TICK01.PRM"),
        ledger.key(Some("say"), "TICK01.PRM"),
        ledger.key(Some("all"), "card/SAY/TICK01.PRM"),
    ];
    let keys = keys.map(|key| key.unwrap().to_string());
    assert_eq!(keys, ["SAY/TICK01.PRM"; 3]);
}

/// Another program has saved the file while ours was made: it stays, and nothing of ours does.
#[test]
fn what_another_program_saves_meanwhile_is_not_overwritten() {
    let (world, disk) = (World::new(), RealDisk::default());
    let root = world.at();
    let path = root.path.join(STOCK[0]);
    let mut ledger = Ledger::open(&root, &disk).unwrap();
    let key = ledger.key(None, STOCK[0]).unwrap();
    let mut change =
        ledger.begin(What::Swap, std::slice::from_ref(&key), Vec::new(), Vec::new()).unwrap();
    let part = change.part(&key).unwrap();
    fs::write(&part, b"ours").unwrap();
    change.install(&key, Hash::of(b"ours"), Installed::default(), None).unwrap();
    fs::write(&path, b"an update").unwrap();
    let error = change.finish().unwrap_err().to_string();
    assert!(error.contains("ChangedNow"), "{error}");
    assert_eq!(fs::read(&path).unwrap(), b"an update");
    assert!(!part.exists() && ledger.state().slots.values().all(|slot| slot.layers.is_empty()));
}

/// A run that finds nothing worth keeping takes its ledger out, and lets go of the lock with it. What another run begins
/// at that very moment is not its to clear away.
#[test]
fn a_ledger_that_another_run_begins_meanwhile_stays() {
    let world = World::new();
    let root = world.at();
    let put = |root: &Root, slot: &str, disk: &dyn Disk, to_the_end: bool| {
        let mut ledger = Ledger::open(root, disk).unwrap();
        let key = ledger.key(None, slot).unwrap();
        let mut change =
            ledger.begin(What::Swap, std::slice::from_ref(&key), Vec::new(), Vec::new()).unwrap();
        if !to_the_end {
            // As if the program were killed here: nothing is rolled back.
            return std::mem::forget(change);
        }
        let part = change.part(&key).unwrap();
        fs::write(&part, b"ours").unwrap();
        change.install(&key, Hash::of(b"ours"), Installed::default(), None).unwrap();
        change.finish().unwrap();
    };
    put(&root, "NEW/FIRST.PRM", &RealDisk::default(), false);
    // The next run rolls it back, finds nothing left, and has just let go of the lock when another one comes.
    let other = root.clone();
    let disk = AfterRemoval::of(root.ledger.join("lock"), move || {
        put(&other, "NEW/SECOND.PRM", &RealDisk::default(), true);
    });
    drop(Ledger::open(&root, &disk).unwrap());
    assert!(disk.has_happened());
    let state = Ledger::peek(&root).unwrap();
    let known: Vec<String> = state.slots.keys().map(ToString::to_string).collect();
    assert_eq!(known, ["NEW/SECOND.PRM"], "the other run's ledger is gone");
    world.restore(&[], Changed::Refuse, &RealDisk::default()).unwrap();
    assert!(!root.path.join("NEW").exists() && !root.ledger.exists());
}

/// A system tells once that what was written did not reach the disk; whoever asks again hears that all is well. A part
/// of which it said so is never placed.
#[test]
fn what_did_not_reach_the_disk_is_not_asked_for_twice() {
    let world = World::new();
    let before = world.contents();
    for fault in [io::ErrorKind::Other, io::ErrorKind::StorageFull] {
        let disk = faulty::TellsOnce::new(fault);
        let refused = world.swap("a.wav", STOCK[0], &disk);
        assert!(refused.is_err() && disk.told() == 1, "{refused:?}");
        assert_eq!(world.contents(), before);
    }
    world.swap("a.wav", STOCK[0], &RealDisk::default()).unwrap();
    let ours = world.contents();
    let disk = faulty::TellsOnce::new(io::ErrorKind::Other);
    let refused = world.restore(&[], Changed::Refuse, &disk);
    assert!(refused.is_err() && disk.told() == 1, "{refused:?}");
    assert_eq!(world.contents(), ours);
    world.restore(&[], Changed::Refuse, &RealDisk::default()).unwrap();
    assert_eq!(world.contents(), before);
}
