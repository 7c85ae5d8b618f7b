//! Swaps and restores with a fault at every call that changes the disk: the slot holds what it held
//! before or what it should hold after, and the stock always comes back.

use super::*;
use crate::disk::RealDisk;
use crate::disk::faulty::{Fault, FaultyDisk, ForgetfulDisk, Loss};
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
        for (name, level) in [("a.wav", 0.3), ("b.wav", 0.6)] {
            let bytes = sound("wav pcm16 44100 stereo", 2000, level);
            fs::write(world.folder.path().join(name), bytes).unwrap();
        }
        world
    }

    fn root(&self) -> PathBuf {
        self.folder.path().join("card")
    }

    /// Every file of the root but the ledger's, parts too.
    fn contents(&self) -> BTreeMap<String, Vec<u8>> {
        let mut all = BTreeMap::new();
        for entry in walkdir::WalkDir::new(self.root()).into_iter().flatten() {
            let name = entry.path().strip_prefix(self.root()).unwrap();
            let name = name.to_string_lossy().replace('\\', "/");
            if entry.file_type().is_file() && !name.starts_with(LEDGER_FOLDER) {
                all.insert(name, fs::read(entry.path()).unwrap());
            }
        }
        all
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
}

impl Act {
    fn prepare(self, world: &World) {
        let disk = RealDisk::default();
        match self {
            Self::First | Self::New => {}
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
            Self::Restore => world.restore(&[], Changed::Refuse, disk),
        }
    }
}

const ACTS: [Act; 4] = [Act::First, Act::Again, Act::New, Act::Restore];

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
    assert_eq!(files_below(&world.root()).unwrap().len(), STOCK.len());
}
