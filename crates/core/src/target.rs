//! A target: its sheet, the names of its slots, and where its roots are.

use crate::error::{Error, Result};
use crate::names::{Difference, Near, OddName, Taken, common_folders, folded, nearest, right_name};
use crate::notice::Notice;
use crate::refusal::{OddJob, OddSlot, Refusal};
use crate::root::Roots;
use crate::sheet::{LoopFile, New, Remark, Rule, Sheet, Within, audit};
use crate::slots::{Listed, Slots};
use crate::stock::Inside;
use crate::tree::{slot_name, stays_below};
use deft_needle_audio::edit::{CutEdit, Level, LoopEdit, Overruled, Request};
use deft_needle_audio::read::Hints;
use deft_needle_audio::shape::route::Route;
use deft_needle_audio::spec::{Chunks, Container, Demand, Header, LoopTags};
use deft_needle_audio::units::{FrameRange, SampleRate};
use deft_needle_audio::{Facts, Invalid, Spec};
use std::cmp::Reverse;
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
    /// What its name says that it holds, where that is something known.
    pub named: Option<Container>,
    /// What its file must be.
    pub rule: &'a Rule,
    /// What is known of its stock.
    pub listed: Option<&'a Listed>,
}

impl Target {
    /// Reads the lists of a sheet, those in a root only where that is at hand.
    ///
    /// # Errors
    /// [`Error::Refused`] for a main root without the sheet's markers, and a root that the sheet does not
    /// name; lists that cannot be read.
    pub fn new(sheet: Sheet, roots: Roots) -> Result<Self> {
        let roots = roots.of_sheet(&sheet)?;
        if let Some(root) = &roots.main {
            refuse_unmarked(&sheet, root)?;
        }
        let slots = Slots::of_sheet(&sheet, &roots)?;
        let taken = Taken::of(slots.names());
        Ok(Self { sheet, slots, roots, taken })
    }

    /// A target whose names lie around a slot, and that nobody wrote a sheet for.
    pub(crate) fn of_names(
        sheet: Sheet,
        roots: Roots,
        names: impl Iterator<Item = String>,
    ) -> Self {
        let mut slots = Slots::default();
        names.for_each(|name| slots.add_found(name));
        let taken = Taken::of(slots.names());
        Self { sheet, slots, roots, taken }
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
    /// ones), where no rule matches it, and where a new one is named wrongly.
    pub fn aim(&self, typed: &str) -> Result<(String, Aim<'_>)> {
        let within: Result<Within, Invalid> = typed.parse();
        let slot = match within {
            Ok(within) if within.0 != "." => within.0,
            Ok(_) => {
                return Err(Refusal::NotWithin { typed: typed.to_owned(), why: None }.into());
            }
            Err(why) => {
                return Err(Refusal::NotWithin { typed: typed.to_owned(), why: Some(why) }.into());
            }
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
            return Err(OddSlot::NoRule { sheet: self.sheet.path().to_owned() }.of(slot));
        };
        // A name out of a list that is not at hand may be as it likes.
        let is_new = !known && self.slots.unread.is_empty();
        if is_new {
            let (faults, right) = self.name_faults(&slot);
            if let Some(odd) = faults.into_iter().next() {
                return Err(OddSlot::BadName { odd, right }.of(slot));
            }
        }
        let named = container_of(&slot);
        let aim = Aim { named, rule, listed: self.slots.listed(&slot) };
        Ok((slot, aim))
    }

    fn no_such_slot(&self, slot: &str) -> Error {
        OddSlot::Unknown { target: self.sheet.name.clone(), near: self.near(slot) }.of(slot)
    }

    /// Slots that may have been meant, by the file's name in other folders, or by the whole name.
    pub fn near(&self, slot: &str) -> Vec<Near> {
        let file = slot.rsplit('/').next().unwrap_or(slot);
        let same = |name: &&str| name.rsplit('/').next() == Some(file);
        let mut elsewhere: Vec<&str> = self.slots.names().filter(same).collect();
        elsewhere.sort_by_key(|name| Reverse(common_folders(name, slot)));
        let near = |name: &str| match folded(name) == folded(slot) {
            true => Near { name: name.to_owned(), how: Difference::Case },
            false => Near { name: name.to_owned(), how: Difference::Spelling },
        };
        let elsewhere: Vec<Near> = elsewhere.into_iter().take(3).map(near).collect();
        if elsewhere.is_empty() { nearest(slot, self.slots.names(), 3) } else { elsewhere }
    }

    /// What is wrong with the name of a new slot, each with a name that would be right.
    pub fn name_faults(&self, slot: &str) -> (Vec<OddName>, Option<String>) {
        let extensions = self.sheet.rule_for(slot).map_or_else(Vec::new, Rule::extensions);
        name_faults(slot, &self.sheet.names, &extensions, &self.taken)
    }

    /// The root that a path lies in: the named one, else the nearest folder at or above it with the
    /// sheet's markers; of a sheet without markers, a folder that has all the lists. `None` where nothing tells.
    pub fn root_above(sheet: &Sheet, path: &Path, named: &Roots) -> Option<PathBuf> {
        if let Some(root) = named.folder(sheet, None) {
            return std::path::absolute(root).ok();
        }
        let path = std::path::absolute(path).ok()?;
        let marked =
            |folder: &&Path| !sheet.marker.0.is_empty() && missing_marker(sheet, folder).is_none();
        let has_lists = || {
            let own = sheet.slots.iter().map(|source| source.get_ref());
            let own = own.filter(|source| sheet.is_main(source.root.as_deref()));
            let mut lists = own.filter_map(|source| source.in_root.as_ref());
            lists.all(|list| {
                path.join(&list.0).exists() || Inside::of(&path.join(&list.0)).is_some()
            })
        };
        let alone = sheet.marker.0.is_empty() && path.is_dir() && has_lists();
        path.ancestors().find(marked).or(alone.then_some(&path)).map(Path::to_owned)
    }
}

/// A file of a target's, and how it is read.
#[derive(Debug)]
pub struct Located {
    /// Where it lies.
    pub path: PathBuf,
    /// What its content cannot tell.
    pub hints: Hints,
    /// Texts beside it that may tell its loop, and what they say.
    loops: Vec<(LoopFile, String)>,
}

impl Located {
    /// Where it loops, as a text beside it tells.
    pub fn looped(&self, rate: SampleRate) -> Option<FrameRange> {
        self.loops.iter().find_map(|(file, text)| file.read(text, rate))
    }
}

impl Target {
    /// The file that a path means: one of the main root, or by the name of a slot what the target plays of it
    /// now. Nothing for what is neither.
    pub fn locate(&self, typed: &Path) -> Option<Located> {
        let main = self.roots.main.as_deref()?;
        let is_there = std::path::absolute(typed).ok().filter(|path| path.is_file());
        let main_path = std::path::absolute(main).ok()?;
        let (slot, path) = match is_there {
            Some(path) => {
                let name = slot_name(&main_path, &path).ok()?;
                let slot = self.slots.stands_for(&self.sheet, &name).unwrap_or(&name).to_owned();
                (slot, path)
            }
            None => {
                let slot = typed.to_str()?.replace('\\', "/");
                let place = self.slots.place_of(&slot).filter(|_| self.slots.has(&slot));
                let path = main_path.join(place?);
                // Names come out of lists that anybody may have written, and links lead anywhere.
                if !stays_below(&main_path, &path) {
                    return None;
                }
                (slot, path)
            }
        };
        let rule = self.sheet.rule_for(&slot);
        // A text lies beside the file where that lies under the slot's name, be it in an overlay.
        let name = slot_name(&main_path, &path).ok()?;
        let prefix = name.strip_suffix(slot.as_str()).unwrap_or_default();
        let text = |file: &LoopFile| {
            let path = main_path.join(format!("{prefix}{}", file.path(&slot).ok()?));
            Some((file.clone(), std::fs::read_to_string(path).ok()?))
        };
        Some(Located {
            loops: rule.iter().flat_map(|rule| &rule.loop_file.0).filter_map(text).collect(),
            hints: rule.map(Rule::hints).unwrap_or_default(),
            path,
        })
    }
}

/// What the extension of a name stands for.
pub fn container_of(name: &str) -> Option<Container> {
    Container::from_extension(name.rsplit_once('.')?.1)
}

impl Target {
    /// What the target has of its own under the name of a slot, an overlay left aside.
    pub fn locate_stock(&self, typed: &Path) -> Option<Located> {
        let main = std::path::absolute(self.roots.main.as_deref()?).ok()?;
        let slot = typed.to_str()?.replace('\\', "/");
        let path = main.join(self.slots.stock_of(&slot).unwrap_or(&slot));
        (path.is_file() && stays_below(&main, &path)).then(|| Located {
            loops: Vec::new(),
            hints: self.sheet.rule_for(&slot).map(Rule::hints).unwrap_or_default(),
            path,
        })
    }
}

/// What is wrong with a name, and a name that would be right.
pub fn name_faults(
    slot: &str,
    rules: &crate::names::NameRules,
    extensions: &[String],
    taken: &Taken,
) -> (Vec<OddName>, Option<String>) {
    let mut faults = rules.faults(slot, extensions);
    faults.extend(taken.faults(slot));
    let wrong = !faults.is_empty();
    (faults, wrong.then(|| right_name(slot, rules, extensions, taken)).flatten())
}

fn missing_marker<'a>(sheet: &'a Sheet, root: &Path) -> Option<&'a Within> {
    sheet.marker.0.iter().find(|within| !root.join(&within.0).exists())
}

fn refuse_unmarked(sheet: &Sheet, root: &Path) -> Result<()> {
    match missing_marker(sheet, root) {
        None => Ok(()),
        Some(marker) => Err(OddJob::NotRoot {
            root: root.to_owned(),
            target: sheet.name.clone(),
            marker: marker.0.clone(),
        }
        .into()),
    }
}

impl Aim<'_> {
    /// What is asked of this slot's file: `own` where it says something, else what the rule asks; and what
    /// the user should know of it. `has_level` says whether the level of what is replaced is known.
    pub fn ask(&self, own: &Request, facts: &Facts, has_level: bool) -> (Request, Vec<Notice>) {
        let mut rule = self.rule.asks.clone();
        let mut notices: Vec<Notice> =
            own.overruled(&rule).into_iter().map(Notice::Overruled).collect();
        if let Some(route) = &rule.edits.route {
            match fitting_route(route, facts.format.channels.count()) {
                Some(route) => rule.edits.route = Some(route),
                None => rule.forget("route"),
            }
        }
        if rule.edits.level == Some(Level::Stock) && !has_level {
            rule.forget("level");
            if !own.says("level") && !own.says("gain") {
                notices.push(Notice::NoStockLevel);
            }
        }
        let mut request = own.clone().over(&rule);
        let edits = &mut request.edits;
        if matches!(edits.looped, Some(LoopEdit::Auto { .. })) || edits.cut == Some(CutEdit::Seam) {
            edits.loop_shortest = self.rule.loop_shortest;
            edits.loop_longest = self.rule.loop_longest;
        }
        (request, notices)
    }

    /// What its file must be, where `like` is what a model file asks; and what that overrules.
    ///
    /// # Errors
    /// A demand that contradicts itself, or names what is not written here.
    pub fn demand(&self, own: &Request, like: Option<&Demand>) -> Result<(Demand, Vec<Notice>)> {
        let mut ruled = self.rule.demand().unwrap_or_else(|| Spec::ANY.into());
        // Of alternatives, a slot takes the one that its own stock has, else those that its name stands for.
        let stock = self.listed.and_then(Listed::format);
        let named = |named| ruled.specs.iter().filter_map(|spec| spec.named(named)).collect();
        match stock.and_then(|own| ruled.specs.iter().find_map(|s| s.narrowed(own))) {
            Some(own) => ruled.specs = vec![own],
            None => {
                let named: Vec<Spec> = self.named.map(named).unwrap_or_default();
                if !named.is_empty() {
                    ruled.specs = named;
                }
            }
        }
        let base = match like {
            Some(like) => Demand {
                loop_tags: ruled.loop_tags.clone(),
                looped: ruled.looped,
                loop_beside: ruled.loop_beside,
                ..like.clone()
            },
            None => ruled.clone(),
        };
        let demand = own.demand(base)?;
        let mut notices = Vec::new();
        if self.rule.like.is_some() {
            return Ok((demand, notices));
        }
        let mut note = |option, asked: Option<String>, ruled: Option<String>| {
            if let (Some(asked), Some(ruled)) = (asked, ruled)
                && asked != ruled
            {
                notices.push(Notice::Overruled(Overruled { option, asked, ruled }));
            }
        };
        let line = |demand: &Demand| format!("\"{}\"", demand.specs[0]);
        note("spec", own.spec.as_ref().map(|_| line(&demand)), Some(line(&ruled)));
        note("like", like.filter(|_| own.spec.is_none()).map(line), Some(line(&ruled)));
        let text = |header: Header| header.to_string();
        note("header", own.header.map(text), ruled.header.map(text));
        let text = |bytes: u32| bytes.to_string();
        note("block-bytes", own.block_bytes.map(text), ruled.block_bytes.map(text));
        let text = |tags: &LoopTags| tags.names().join(" ");
        note("loop-tags", own.loop_tags.as_ref().map(text), ruled.loop_tags.as_ref().map(text));
        let kept = |chunks| if chunks == Chunks::Kept { "keep" } else { "strip" }.to_owned();
        note("tags", own.chunks.map(kept), ruled.chunks.map(kept));
        Ok((demand, notices))
    }
}

/// A rule's route, where the clip has another number of channels than the slot: a mono clip feeds all that a
/// route would feed from the left or the right.
fn fitting_route(route: &Route, channels: u16) -> Option<Route> {
    if route.0.len() == usize::from(channels) {
        return None;
    }
    let mut route = route.clone();
    if channels == 1 {
        for row in &mut route.0 {
            row.iter_mut().for_each(|(channel, _)| *channel = 0);
        }
    }
    Some(route)
}
