//! Swaps and restores with a fault at every call that changes the disk: the slot holds what it held
//! before or what it should hold after, and the stock always comes back.

use super::*;
use crate::disk::RealDisk;
use crate::disk::faulty::{Fault, FaultyDisk, ForgetfulDisk, Loss};
use crate::install::job::{Ask, Run, Session};
use crate::install::{Changed, Condition, Swap, Which, find_root_above, restore, status};
use crate::tree::files_below;
use deft_needle_audio::block::Samples;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::plan::Output;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::Format;
use deft_needle_audio::{Clip, Edits};
use std::collections::BTreeMap;
use std::fs;
use std::io::Cursor;
use std::sync::Arc;
use tempfile::TempDir;

/// A root with stock, and clips beside it.
struct World {
    folder: TempDir,
}

/// A target of two roots with a cache, and two lists that are told of every slot.
const TARGET: &str = r#"
name = "Card"
roots = ["card", "settings"]
clear = "*.idx"

[[slots]]
in-root = "."

[[rule]]
match = "**/*.PRM"
spec = "wav pcm8 18900 mono"
extensions = ["PRM"]
new = "any"

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
"#;

/// A job, and the same once it was changed: one slot has another clip, one is new, one is named no more.
const JOBS: [&str; 2] = [
    "target = 'target.toml'\nroots = { card = 'card', settings = 'settings' }\n\
     [[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'a.wav'\n\
     [[replace]]\nslot = 'NEW/DEEP/X.PRM'\nclip = 'b.wav'\n",
    "target = 'target.toml'\nroots = { card = 'card', settings = 'settings' }\n\
     [[replace]]\nslot = 'SAY/TICK01.PRM'\nclip = 'b.wav'\ngain = '-3dB'\n\
     [[replace]]\nslot = 'SAY/TICK02.PRM'\nclip = 'a.wav'\n",
];

const STOCK: [&str; 3] = ["SAY/TICK01.PRM", "SAY/TICK02.PRM", "notes.txt"];

fn sound(spec: &str, frames: usize, level: f64) -> Vec<u8> {
    let format: Format = spec.parse().unwrap();
    let samples: Vec<f64> = (0..frames)
        .map(|i| level * (i as f64 * 0.21).sin())
        .collect();
    let output = Output::plain(format, frames as u64);
    let channels = vec![samples; usize::from(format.channels.count())];
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, channels);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    bytes.into_inner()
}

impl World {
    fn new() -> Self {
        let world = Self {
            folder: tempfile::tempdir().unwrap(),
        };
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
            ("card/names.json", "{\n  \"names\": [\"one\"]\n}\n"),
            ("card/warm.idx", "cache"),
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

    /// Every file of both roots but the ledger's and caches, parts too.
    fn contents(&self) -> BTreeMap<String, Vec<u8>> {
        let mut all = BTreeMap::new();
        for root in ["card", "settings"] {
            let root = self.folder.path().join(root);
            for entry in walkdir::WalkDir::new(&root).into_iter().flatten() {
                let name = entry.path().strip_prefix(self.folder.path()).unwrap();
                let name = name.to_string_lossy().replace('\\', "/");
                let name = name.strip_prefix("card/").unwrap_or(&name).to_owned();
                let own = name.starts_with(LEDGER_FOLDER) || name.ends_with(".idx");
                if entry.file_type().is_file() && !own {
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
        let clip = Clip::open(&self.folder.path().join(clip))?;
        let root = self.root();
        let path = root.join(slot);
        let swap = Swap {
            rule: None,
            clip: &clip,
            slot: &path,
            root: Some(&root),
            ledger: None,
            demand: slot.starts_with("NEW").then(|| {
                "wav pcm8 18900 mono"
                    .parse::<deft_needle_audio::Spec>()
                    .unwrap()
                    .into()
            }),
            adjust: &|_| {},
            edits: &Edits::default(),
            new: slot.starts_with("NEW"),
            options: BTreeMap::new(),
        };
        let prepared = swap.prepare(Some(disk), &Unobserved)?;
        swap.carry_out(prepared, disk, &Unobserved).map(drop)
    }

    fn restore(&self, slots: &[String], changed: Changed, disk: &dyn Disk) -> Result<()> {
        if !self.root().join(LEDGER_FOLDER).is_dir() {
            return Ok(());
        }
        let root = find_root_above(&self.root(), None, None)?;
        let which = match slots {
            [] => Which::All,
            slots => Which::Slots(slots),
        };
        restore(&root, which, changed, false, disk).map(drop)
    }
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
            Self::Restore | Self::RestoreJob => world.restore(&[], Changed::Refuse, disk),
        }
    }
}

const ACTS: [Act; 7] = [
    Act::First,
    Act::Again,
    Act::New,
    Act::Restore,
    Act::Install,
    Act::Update,
    Act::RestoreJob,
];

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
        Self {
            stock,
            before,
            after,
        }
    }
}

/// Runs one act with a fault at call `at`; gives whether the fault came at all.
fn strike(act: Act, at: usize, fault: Fault, loss: Option<Loss>, expected: &Expected) -> bool {
    let Expected {
        stock,
        before,
        after,
    } = expected;
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
    let root = world.root();
    let real = RealDisk::default();
    let opened = Ledger::open(&root, &usual_folder(&root), &real);
    drop(opened.unwrap_or_else(|error| panic!("{what}: {error}")));
    let now = world.contents();
    assert!(
        now == *before || now == *after,
        "{what}: neither before nor after"
    );
    if result.is_ok() {
        assert!(now == *after, "{what}: said to be done");
    }
    world
        .restore(&[], Changed::Refuse, &RealDisk::default())
        .unwrap_or_else(|error| panic!("{what}: {error}"));
    assert!(world.contents() == *stock, "{what}: the stock is not back");
    assert!(
        !root.join(LEDGER_FOLDER).exists(),
        "{what}: a ledger of nothing is left"
    );
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
            let calls = (0..1000)
                .take_while(|at| strike(act, *at, fault, loss, &expected))
                .count();
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
        let root = find_root_above(&slot, None, None).unwrap();
        let conditions = |root| status(root).unwrap().slots[0].condition;
        assert_eq!(conditions(&root), Condition::ChangedSince);
        assert!(matches!(
            world.restore(&[], Changed::Refuse, &disk),
            Err(Error::Refused { .. })
        ));
        assert_eq!(fs::read(&slot).unwrap(), updated);

        // The spec of the new file counts, and both generations are in the ledger.
        world.swap("b.wav", STOCK[0], &disk).unwrap();
        assert_eq!(
            Clip::open(&slot).unwrap().facts().format.to_string(),
            "wav pcm16 9450 mono"
        );
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
        assert!(kept(b"something else"), "what was there is gone");
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
fn damaged_stock_is_never_given_back() {
    let (world, disk) = (World::new(), RealDisk::default());
    let hash = Hash::of_file(&world.root().join(STOCK[0])).unwrap();
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    let installed = world.contents();
    fs::write(kept_in(&usual_folder(&world.root()), hash), b"rot").unwrap();
    assert!(matches!(
        world.restore(&[], Changed::Refuse, &disk),
        Err(Error::StockDamaged { .. })
    ));
    assert_eq!(world.contents(), installed);
}

#[test]
fn two_runs_keep_apart() {
    let (world, disk) = (World::new(), RealDisk::default());
    world.swap("a.wav", STOCK[0], &disk).unwrap();
    let root = world.root();
    let first = Ledger::open(&root, &usual_folder(&root), &disk).unwrap();
    let second = world.swap("b.wav", STOCK[1], &disk).unwrap_err();
    assert!(second.to_string().contains("another run"), "{second}");
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
    assert!(refused.to_string().contains("just changed"), "{refused}");
    assert_eq!(world.contents(), swapped);
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    assert_eq!(world.contents(), stock);
}

#[test]
fn nothing_leads_out_of_the_root() {
    let world = World::new();
    let before = world.contents();
    for slot in [
        "../a.wav",
        "SAY/../../a.wav",
        ".deft-needle/ledger.log",
        "SAY",
    ] {
        let refused = world.swap("b.wav", slot, &RealDisk::default());
        assert!(
            matches!(refused, Err(Error::Refused { .. })),
            "{slot}: {refused:?}"
        );
    }
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink(world.folder.path(), world.root().join("out")).unwrap();
        let refused = world.swap("b.wav", "out/a.wav", &RealDisk::default());
        assert!(matches!(refused, Err(Error::Refused { .. })), "{refused:?}");
        fs::remove_file(world.root().join("out")).unwrap();
    }
    assert_eq!(world.contents(), before);
    assert_eq!(files_below(&world.root()).unwrap().len(), STOCK.len() + 2);
}

#[test]
fn jobs_lie_one_over_the_other_and_come_out_in_order() {
    let (world, disk) = (World::new(), RealDisk::default());
    let stock = world.contents();
    let named = |name: &str, job: &str| format!("name = '{name}'\n{job}");
    world.install(&named("lower", JOBS[0]), &disk).unwrap();
    let lower = world.contents();
    world.install(&named("upper", JOBS[1]), &disk).unwrap();
    let root = find_root_above(&world.root(), None, None).unwrap();
    let take_out = |which| restore(&root, which, Changed::Refuse, false, &disk);
    // The lower one stays until the upper one is out, and cannot be changed below it.
    let refused = take_out(Which::Job("lower")).unwrap_err().to_string();
    assert!(
        refused.contains("upper was installed over lower"),
        "{refused}"
    );
    assert!(world.install(&named("lower", JOBS[1]), &disk).is_err());
    assert!(take_out(Which::Job("other")).is_err());
    let all = status(&root).unwrap();
    let tick = all.slots.iter().find(|slot| slot.slot == STOCK[0]).unwrap();
    assert_eq!(tick.below, [Some("lower".to_owned())]);
    let out = take_out(Which::Job("upper")).unwrap();
    assert_eq!(out.uncovered, [STOCK[0]]);
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
    assert!(
        !world.root().join("warm.idx").exists(),
        "the cache is still there"
    );
    let path = world.folder.path().join("settings/mix.ini");
    let text = fs::read_to_string(&path).unwrap();
    assert_eq!(text, "; mine\r\n[Mixer]\r\nBanks=BASE;TICK01;X\r\n");
    fs::write(
        &path,
        text.replace("BASE", "BASE;OURS").replace(";X", ";X;LAST") + "[New]\r\n",
    )
    .unwrap();
    // Ours stay where they stand when the job is done again.
    let edited = fs::read_to_string(&path).unwrap();
    world.install(JOBS[0], &disk).unwrap();
    assert_eq!(fs::read_to_string(&path).unwrap(), edited);
    let root = find_root_above(&world.root(), None, None).unwrap();
    let entries = status(&root).unwrap().entries;
    assert_eq!(entries.len(), 4);
    assert!(
        entries
            .iter()
            .all(|entry| entry.condition == Condition::Installed)
    );
    // Other entries of ours since then do not make the file ours.
    world.install(JOBS[1], &disk).unwrap();
    world.restore(&[], Changed::Refuse, &disk).unwrap();
    let mut now = world.contents();
    let mixed = now.insert(
        "settings/mix.ini".to_owned(),
        stock["settings/mix.ini"].clone(),
    );
    let mixed = String::from_utf8(mixed.unwrap()).unwrap();
    assert_eq!(
        mixed,
        "; mine\r\n[Mixer]\r\nBanks=BASE;OURS;LAST\r\n[New]\r\n"
    );
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
        let (here, away) = (
            world.folder.path().join("settings"),
            world.folder.path().join("away"),
        );
        fs::rename(&here, &away).unwrap();
        let (root, real) = (world.root(), RealDisk::default());
        let gone = Ledger::open(&root, &usual_folder(&root), &real).map(drop);
        fs::rename(&away, &here).unwrap();
        if let Err(error) = gone {
            assert!(error.to_string().contains("is not there"), "{error}");
            waited += 1;
        }
        drop(Ledger::open(&root, &usual_folder(&root), &real).unwrap());
        let now = world.contents();
        assert!(now == expected.before || now == expected.after, "call {at}");
        if !disk.struck() {
            break;
        }
    }
    assert!(waited > 20, "{waited}");
}
