//! Lantern Ferry, a game: what it loads when it starts, and how its music loops.
//!
//! `ferry.cfg` in its settings names the banks that it loads from, the last one first: `BASE` is the game's
//! own folder, any other is a folder `berths/NAME` or an archive `berths/NAME.ferry` with a manifest. What
//! it has loaded it remembers in `warm.idx`, and believes that file rather than the sounds.

mod bank;
mod round;
mod sound;

pub use round::{Heard, go_round};

use bank::Bank;
use sound::Sound;
use std::collections::BTreeMap;
use std::fmt;
use std::fs;
use std::path::Path;

/// What the game does with one of its sounds.
#[derive(Debug, Clone, PartialEq)]
pub enum Verdict {
    /// It plays what it loaded.
    Plays {
        /// From which bank.
        bank: String,
        /// What it is.
        what: String,
    },
    /// It stays silent, and why.
    Silent(String),
    /// It plays something that it remembers, and that is there no more.
    Stale,
}

/// What happened when the game was started.
#[derive(Debug, Clone, PartialEq)]
pub struct Boot {
    /// Its banks, in the order in which they are looked through.
    pub banks: Vec<String>,
    /// Banks that are named and not there, or not accepted.
    pub odd: Vec<String>,
    /// Every sound.
    pub sounds: BTreeMap<String, Verdict>,
}

/// How far the length in the cue list may be from the sound's own, in milliseconds.
const SLACK: u64 = 20;

/// Starts the game: it loads, and remembers what it has loaded.
///
/// # Errors
/// Why it does not start at all.
pub fn boot(game: &Path, settings: &Path) -> Result<Boot, String> {
    let config = fs::read_to_string(settings.join("ferry.cfg"))
        .map_err(|error| format!("ferry.cfg cannot be read: {error}"))?;
    let named = config.lines().find_map(|line| line.strip_prefix("Banks="));
    let named = named.ok_or("ferry.cfg names no banks")?;
    let mut banks = Vec::new();
    let mut odd = Vec::new();
    for name in named.split(';') {
        match Bank::open(game, name) {
            Ok(Some(bank)) => banks.insert(0, bank),
            Ok(None) => odd.push(format!("{name}: nothing is there")),
            Err(why) => odd.push(format!("{name}: {why}")),
        }
    }
    let remembered = memory(game);
    let names = banks.iter().flat_map(Bank::names);
    let mut names: Vec<String> = names.filter(|name| sound::is_meant(name)).collect();
    names.sort();
    names.dedup();
    let mut sounds = BTreeMap::new();
    let mut lengths = String::new();
    for name in names {
        let Some((bank, bytes)) = banks.iter().find_map(|bank| Some((bank, bank.read(&name)?)))
        else {
            continue;
        };
        let verdict = match (remembered.get(&name), Sound::load(&name, &bytes)) {
            (Some(length), _) if *length != bytes.len() => Verdict::Stale,
            (_, Err(why)) => Verdict::Silent(why),
            (_, Ok(sound)) => match cue_fault(&banks, &name, &sound) {
                Some(why) => Verdict::Silent(why),
                None => Verdict::Plays { bank: bank.name.clone(), what: sound.to_string() },
            },
        };
        lengths += &format!("{name}\t{}\n", bytes.len());
        sounds.insert(name, verdict);
    }
    if remembered.is_empty() {
        let _ = fs::write(game.join("warm.idx"), lengths);
    }
    Ok(Boot { banks: banks.iter().map(|bank| bank.name.clone()).collect(), odd, sounds })
}

/// The lengths that the game remembers.
fn memory(game: &Path) -> BTreeMap<String, usize> {
    let text = fs::read_to_string(game.join("warm.idx")).unwrap_or_default();
    let lines = text.lines().filter_map(|line| line.split_once('\t'));
    lines.filter_map(|(name, length)| Some((name.to_owned(), length.parse().ok()?))).collect()
}

/// Music is started by its cue, which must tell how long it lasts.
fn cue_fault(banks: &[Bank], name: &str, sound: &Sound) -> Option<String> {
    if !name.starts_with("music/") {
        return None;
    }
    for bank in banks {
        match bank.cues() {
            Err(why) => return Some(why),
            Ok(cues) => {
                let Some(told) = cues.get(name) else { continue };
                let is = sound.millis();
                let wrong = told.abs_diff(is) > SLACK;
                return wrong
                    .then(|| format!("its cue in {} says {told} ms, it lasts {is}", bank.name));
            }
        }
    }
    Some("no cue plays it".to_owned())
}

impl fmt::Display for Boot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "  banks: {}", self.banks.join(", "))?;
        for odd in &self.odd {
            writeln!(f, "  {odd}")?;
        }
        for (at, (name, verdict)) in self.sounds.iter().enumerate() {
            let line = if at == 0 { "" } else { "\n" };
            match verdict {
                Verdict::Plays { bank, what } => {
                    write!(f, "{line}  {name:<24}plays {what}, from {bank}")?
                }
                Verdict::Silent(why) => write!(f, "{line}  {name:<24}stays silent: {why}")?,
                Verdict::Stale => write!(
                    f,
                    "{line}  {name:<24}plays what it remembers in warm.idx, not what is there"
                )?,
            }
        }
        Ok(())
    }
}
