//! What works on this machine, and every ledger on it.

use super::counted;
use crate::args::Doctor;
use crate::console::{BAD, BOLD, Console, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::{shown, text};
use crate::report::error as words;
use crate::settings;
use deft_needle_audio::spec::CONTAINERS;
use deft_needle_core::disk::{Promises, promises};
use deft_needle_core::encoder::as_word;
use deft_needle_core::root::{Found, Known, Registry, RootAsk};
use deft_needle_core::run::{Condition, Proof, Which, status};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Roots that are not there are listed up to this many; all of them with `-v`.
const MOST_AWAY: usize = 5;

/// How a root that was installed into is.
#[derive(Debug, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Health {
    /// Its folder is not there: a card that is out, or a target that is gone.
    Away,
    /// Nothing is installed there any more.
    Empty,
    /// All that was installed is in place, and every original is kept.
    Good,
    /// Something is to be looked at.
    Look,
    /// Its ledger cannot be read.
    Damaged,
}

/// A root, and what is to be done there.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Checked {
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    root: PathBuf,
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    ledger: PathBuf,
    health: Health,
    slots: usize,
    say: String,
    help: String,
}

/// Looks at everything, and leaves nothing.
pub fn run(args: &Doctor, console: &Console) -> Result<Exit, Failure> {
    let mut known = Registry::of_user().all();
    known.dedup_by(|a, b| (&a.root, &a.ledger) == (&b.root, &b.ledger));
    let mut roots: Vec<Checked> = known.iter().map(checked).collect();
    let named = args.root.as_deref().map(|path| RootAsk::default().certain(path, Found::Named));
    let named = named.transpose()?;
    if let Some(root) = &named
        && root.ledger.is_dir()
        && roots.iter().all(|known| known.ledger != root.ledger)
    {
        roots.push(look(&root.path, &root.ledger));
    }
    let place = named.as_ref().map(|root| (root.path.clone(), promises(&root.path)));
    let written: Vec<&str> =
        CONTAINERS.iter().filter(|c| !c.writes.is_empty()).map(|c| c.word).collect();
    let read: Vec<&str> = CONTAINERS.iter().map(|c| c.word).collect();
    let program = std::env::current_exe().unwrap_or_default();
    let config = settings::file().unwrap_or_default();
    console.object(|| object::Health {
        program: text(&program),
        system: std::env::consts::OS,
        processor: std::env::consts::ARCH,
        writes: &written,
        reads: &read,
        aac_encoder: cfg!(feature = "aac"),
        config: text(&config),
        config_exists: config.is_file(),
        place: place.as_ref().map(|(_, place)| place),
        roots: &roots,
    });
    let line = |name: &str, what: &str| console.say(format!("  {name:<10}{what}"));
    console.say(paint(BOLD, format!("deft-needle {}", env!("CARGO_PKG_VERSION"))));
    line("program", &safe(&text(&program)));
    line("system", &format!("{}, {}", std::env::consts::OS, std::env::consts::ARCH));
    line("writes", &written.join(" "));
    line("reads", &read.join(" "));
    if !cfg!(feature = "aac") {
        line("AAC", &paint(WARN, "this build has no AAC encoder"));
    }
    let player = match console.settings().player.first() {
        Some(player) => safe(player),
        None => "the system's own".to_owned(),
    };
    line("player", &player);
    let there = if config.is_file() { "" } else { " (not there: defaults)" };
    line("settings", &format!("{}{there}", safe(&text(&config))));
    if let Some((path, place)) = &place {
        tell_place(path, place, console);
    }
    Ok(tell_roots(&roots, console))
}

/// What the file system of a root can promise.
fn tell_place(path: &Path, place: &Promises, console: &Console) {
    let line = |name: &str, what: String| console.say(format!("  {name:<10}{what}"));
    console.say(paint(BOLD, safe(&shown(path))));
    if let Some(free) = place.free {
        line("free", deft_needle_core::sheet::Size(free).to_string());
    }
    line(
        "writing",
        match place.writable {
            true => paint(GOOD, "allowed"),
            false => paint(BAD, "not allowed: unlock the card, or get permission"),
        },
    );
    line(
        "names",
        match place.ignores_case {
            Some(true) => "upper and lower case are the same file; names are matched so".to_owned(),
            Some(false) => "upper and lower case are different files".to_owned(),
            None => "not known whether case matters (nothing here to try it with)".to_owned(),
        },
    );
}

fn tell_roots(roots: &[Checked], console: &Console) -> Exit {
    if roots.is_empty() {
        console.say("nothing is installed on this machine");
        return Exit::Done;
    }
    console.say(paint(BOLD, counted(roots.len(), "ledger")));
    let mut exit = Exit::Done;
    let is_away = |root: &&Checked| matches!(root.health, Health::Away);
    let (away, there): (Vec<&Checked>, Vec<&Checked>) = roots.iter().partition(is_away);
    let shown_away =
        if console.verbose() || away.len() <= MOST_AWAY { away.as_slice() } else { &[] };
    if shown_away.len() < away.len() {
        let many = counted(away.len(), "root");
        console.say(format!(
            "  {many} not there now: cards that are out, or folders that are gone (-v)"
        ));
    }
    for root in there.iter().chain(shown_away) {
        let style = match root.health {
            Health::Good | Health::Empty => GOOD,
            Health::Away | Health::Look => WARN,
            Health::Damaged => BAD,
        };
        let shown = format!("  {}: {}", safe(&shown(&root.root)), paint(style, safe(&root.say)));
        match root.health {
            Health::Good | Health::Empty | Health::Away => console.say(shown),
            Health::Look | Health::Damaged => {
                exit = Exit::Short;
                console.find(shown);
            }
        }
        if !root.help.is_empty() {
            console.find(format!("    {} {}", paint(GOOD, "help:"), safe(&root.help)));
        }
    }
    exit
}

fn checked(known: &Known) -> Checked {
    match known.root.is_dir() {
        true => look(&known.root, &known.ledger),
        false => Checked {
            root: known.root.clone(),
            ledger: known.ledger.clone(),
            health: Health::Away,
            slots: 0,
            say: "not there now: a card that is out, or a folder that is gone".to_owned(),
            help: String::new(),
        },
    }
}

fn look(path: &Path, ledger: &Path) -> Checked {
    let of = |health, slots, say: String, help: String| Checked {
        root: path.to_owned(),
        ledger: ledger.to_owned(),
        health,
        slots,
        say,
        help,
    };
    let command = |what: &str| format!("deft-needle {what} {}", as_word(&text(path)));
    let found = RootAsk::default().certain(path, Found::Named).and_then(|mut root| {
        ledger.clone_into(&mut root.ledger);
        status(&root, Which::All, Proof::Look)
    });
    let status = match found {
        Ok(status) => status,
        Err(error) => {
            return of(Health::Damaged, 0, words::core(&error), words::core_remedy(&error));
        }
    };
    let slots = status.slots.len();
    let counts = |condition| status.slots.iter().filter(|one| one.condition == condition).count();
    let (changed, missing) = (counts(Condition::Changed), counts(Condition::Missing));
    let lost = status.slots.iter().filter(|one| one.stock_lost).count();
    if lost > 0 {
        let say = format!("{} of which the kept original is lost", counted(lost, "slot"));
        return of(Health::Damaged, slots, say, command("status --verify"));
    }
    if status.state.pending.is_some() {
        let say = "a change was interrupted".to_owned();
        return of(Health::Look, slots, say, command("restore"));
    }
    if !status.strays.is_empty() {
        let say = format!("{} without a record", counted(status.strays.len(), "kept original"));
        return of(Health::Look, slots, say, command("rescue --dry-run"));
    }
    if changed + missing > 0 {
        let say = format!("{slots} installed; {changed} changed since, {missing} missing");
        return of(Health::Look, slots, say, command("status"));
    }
    match slots + status.entries.len() {
        0 => of(Health::Empty, 0, "nothing is installed".to_owned(), String::new()),
        _ => {
            let say = format!("{} installed, all in place", counted(slots, "slot"));
            of(Health::Good, slots, say, String::new())
        }
    }
}
