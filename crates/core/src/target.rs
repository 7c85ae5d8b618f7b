//! A target: its sheet, the names of its slots, and where its roots are.

use crate::error::{Error, Result};
use crate::names::{Taken, did_you_mean, nearest, right_name};
use crate::sheet::{New, Remark, Rule, Sheet, Within, audit};
use crate::slots::{Listed, Roots, Slots};
use deft_needle_audio::Edits;
use deft_needle_audio::Facts;
use deft_needle_audio::edit::Level;
use deft_needle_audio::shape::route::Route;
use std::path::{Path, PathBuf};

/// A target.
#[derive(Debug)]
pub struct Target {
    /// What it accepts.
    pub sheet: Sheet,
    /// The names that its lists give.
    pub slots: Slots,
    /// Where its roots are, as far as that is known.
    pub roots: Roots,
    taken: Taken,
}

/// A slot that something is made for.
#[derive(Debug, Clone, Copy)]
pub struct Aim<'a> {
    /// What its file must be.
    pub rule: &'a Rule,
    /// What is known of its stock.
    pub listed: Option<&'a Listed>,
}

impl Target {
    /// Reads the lists of a sheet, those in a root only where that is at hand.
    ///
    /// # Errors
    /// [`Error::Refused`] for a main root without the sheet's markers; lists that cannot be read.
    pub fn new(sheet: Sheet, roots: Roots) -> Result<Self> {
        if let Some(root) = &roots.main {
            refuse_unmarked(&sheet, root)?;
        }
        let slots = Slots::of_sheet(&sheet, &roots)?;
        let taken = Taken::of(slots.names());
        Ok(Self { sheet, slots, roots, taken })
    }

    /// What is odd about its sheet.
    pub fn remarks(&self) -> Vec<Remark> {
        let names: Vec<&str> = self.slots.names().collect();
        audit(&self.sheet, &names)
    }

    /// The slot of this name.
    ///
    /// # Errors
    /// [`Error::Refused`] where the target has no such slot and takes no further ones (naming near
    /// ones), where no rule speaks of it, and where a new one is named wrongly.
    pub fn aim(&self, typed: &str) -> Result<(String, Aim<'_>)> {
        let within: Result<Within, String> = typed.parse();
        let slot = match within {
            Ok(within) if within.0 != "." => within.0,
            Ok(_) => {
                return Err(Error::refused("a slot is a file", "name one below the root"));
            }
            Err(what) => return Err(Error::refused(what, "name a file below the root")),
        };
        let known = self.slots.has(&slot);
        let rule = self.sheet.rule_for(&slot);
        // Where no list is named, or one is not at hand, no name can be told wrong.
        let unlisted = self.sheet.slots.is_empty() || !self.slots.unread.is_empty();
        let takes_new = rule.is_some_and(|rule| rule.new == New::Any) || unlisted;
        if !known && !takes_new {
            return Err(self.no_such_slot(&slot));
        }
        let Some(rule) = rule else {
            return Err(Error::refused(
                format!("no rule of {} speaks of {slot}", self.sheet.path().display()),
                "check the slot's folder, or add a [[rule]] that matches it",
            ));
        };
        // A name out of a list that is not at hand may be as it likes.
        let is_new = !known && self.slots.unread.is_empty();
        if is_new && let Some(fault) = self.name_faults(&slot).first() {
            return Err(Error::refused(format!("{slot} {fault}"), ""));
        }
        let aim = Aim { rule, listed: self.slots.listed(&slot) };
        Ok((slot, aim))
    }

    fn no_such_slot(&self, slot: &str) -> Error {
        let what = format!("{} has no slot {slot}", self.sheet.name);
        let near = self.near(slot);
        let usual = "`slots` lists and searches the names";
        Error::refused(what, near.as_deref().unwrap_or(usual))
    }

    /// `did you mean …?`, by the whole name, or by the file's in other folders.
    pub fn near(&self, slot: &str) -> Option<String> {
        let file = slot.rsplit('/').next().unwrap_or(slot);
        let elsewhere = || {
            let same = |name: &&str| name.rsplit('/').next() == Some(file);
            let found: Vec<&str> = self.slots.names().filter(same).take(3).collect();
            (!found.is_empty()).then(|| format!("did you mean {}?", found.join(" or ")))
        };
        let whole = did_you_mean(&nearest(slot, self.slots.names(), 3));
        elsewhere().or(whole)
    }

    /// What is wrong with the name of a new slot, each with a name that would be right.
    pub fn name_faults(&self, slot: &str) -> Vec<String> {
        let extensions = self.sheet.rule_for(slot).map_or_else(Vec::new, Rule::extensions);
        name_faults(slot, &self.sheet.names, &extensions, &self.taken)
    }

    /// The root that a path lies in: the named one, else the nearest folder at or above it with the
    /// sheet's markers; `None` where nothing tells.
    pub fn root_above(sheet: &Sheet, path: &Path, named: Option<&Path>) -> Option<PathBuf> {
        if let Some(root) = named {
            return std::path::absolute(root).ok();
        }
        let path = std::path::absolute(path).ok()?;
        let marked =
            |folder: &&Path| !sheet.marker.0.is_empty() && missing_marker(sheet, folder).is_none();
        path.ancestors().find(marked).map(Path::to_owned)
    }
}

/// What is wrong with a name, as in `has …` or `should …`, each with a name that would be right.
pub fn name_faults(
    slot: &str,
    rules: &crate::names::NameRules,
    extensions: &[String],
    taken: &Taken,
) -> Vec<String> {
    let mut faults = rules.faults(slot, extensions);
    faults.extend(taken.faults(slot));
    if faults.is_empty() {
        return faults;
    }
    let right = right_name(slot, rules, extensions, taken);
    let instead = right.map_or_else(String::new, |name| format!("; {name} would be right"));
    let told = |fault: String| format!("{fault}{instead}");
    faults.into_iter().map(told).collect()
}

fn missing_marker<'a>(sheet: &'a Sheet, root: &Path) -> Option<&'a Within> {
    sheet.marker.0.iter().find(|within| !root.join(&within.0).exists())
}

fn refuse_unmarked(sheet: &Sheet, root: &Path) -> Result<()> {
    match missing_marker(sheet, root) {
        None => Ok(()),
        Some(marker) => Err(Error::refused(
            format!("{} is no root of {}: it has no {}", root.display(), sheet.name, marker.0),
            "name the folder that has it with --root",
        )),
    }
}

impl Aim<'_> {
    /// Lets the rule speak where the user has not; gives what the user decided otherwise.
    ///
    /// `stock` says whether the level of what is replaced can be told.
    pub fn fill_in(&self, edits: &mut Edits, facts: &Facts, stock: bool) -> Vec<String> {
        let rule = self.rule;
        let mut overruled = Vec::new();
        let mut note = |option: &str, typed: String, ruled: Option<String>| {
            if let Some(ruled) = ruled.filter(|ruled| *ruled != typed) {
                overruled.push(format!("--{option} {typed} instead of the sheet's {ruled}"));
            }
        };
        match &edits.route {
            Some(route) => {
                note("route", route.to_string(), rule.route.as_ref().map(Route::to_string))
            }
            None => edits.route = self.route(facts.format.channels.count()),
        }
        match edits.longest {
            Some(time) => note("longest", time.to_string(), rule.longest.map(|t| t.to_string())),
            None => edits.longest = rule.longest,
        }
        match edits.loop_multiple {
            Some(frames) => note(
                "loop-multiple",
                frames.to_string(),
                rule.loop_multiple.map(|frames| frames.to_string()),
            ),
            None => edits.loop_multiple = rule.loop_multiple,
        }
        match (&edits.level, &edits.gain) {
            (Some(level), _) => {
                note("level", level.to_string(), rule.level.as_ref().map(Level::to_string))
            }
            (None, Some(_)) => {}
            (None, None) if rule.level == Some(Level::Stock) && !stock => overruled.push(
                "the level stays as it is: there is no stock that it could be as loud as"
                    .to_owned(),
            ),
            (None, None) => edits.level.clone_from(&rule.level),
        }
        overruled
    }

    /// The rule's route, where the clip has another number of channels than the slot: a mono clip
    /// feeds all that a route would feed from the left or the right.
    fn route(&self, channels: u16) -> Option<Route> {
        let mut route = self.rule.route.clone()?;
        if route.0.len() == usize::from(channels) {
            return None;
        }
        if channels == 1 {
            for row in &mut route.0 {
                row.iter_mut().for_each(|(channel, _)| *channel = 0);
            }
        }
        Some(route)
    }
}
