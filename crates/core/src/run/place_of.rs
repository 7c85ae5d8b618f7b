//! What lies in a line's slot: the true stock below everything of ours, and links.

use super::Run;
use super::line::Sources;
use super::stock::{find_stock, no_such_slot, refuse_link};
use crate::disk::same_file;
use crate::error::Result;
use crate::hash::Hash;
use crate::job::Placement;
use crate::ledger::record::Held;
use crate::names::{Key, OddName, folded};
use crate::notice::Notice;
use crate::refusal::{OddPath, OddSlot};
use crate::root::{Kind, look, refuse_odd};
use crate::sheet::{Links, New, Rule, Way};
use crate::target::Aim;
use crate::tree::{names_in, through_link};
use std::path::{Path, PathBuf};

/// What lies below everything of ours.
#[derive(Debug, Default)]
pub(super) struct Stock {
    pub path: Option<PathBuf>,
    pub hash: Option<Hash>,
    /// Whether somebody has put another file there since.
    pub changed: bool,
}

impl Run {
    /// The true stock of a slot.
    pub(super) fn stock(
        &self,
        slot: &str,
        key: &Key,
        aim: &Aim<'_>,
        placement: &Placement,
        sources: &Sources<'_>,
    ) -> Result<Stock> {
        let Some(root) = &self.root else {
            return Ok(Stock::default());
        };
        let known = sources.state.key(&root.path, None, slot, sources.disk)?;
        let place = look(&root.path, known.within(), sources.disk)?;
        refuse_odd(&place)?;
        // Where it is put may be another place, as of an overlay.
        let folder = sources.state.root_of(&root.path, key)?;
        let there = look(&folder, key.within(), sources.disk)?;
        refuse_odd(&there)?;
        if self.destination.way() != Way::Slots {
            refuse_link(&there)?;
        }
        let path = place.path;
        if placement.clip.path().is_some_and(|clip| same_file(clip, &path)) {
            return Err(OddPath::ClipIsSlot.of(path));
        }
        let of_ours = sources.state.slots.get(&known).filter(|known| known.top().is_some());
        // Where our own file is there, the ledger knows the stock without a look at it.
        if let Some(known) = of_ours
            && path.is_file()
            && let Ok(now) = sources.hash_cache.hash(&path)
            && known.expected() == Some(Held::File(now))
            && let Some(Held::File(hash)) = known.original()
        {
            let kept = crate::ledger::kept_in(&root.ledger, hash);
            return Ok(Stock {
                path: Some(kept).filter(|kept| kept.is_file()),
                hash: Some(hash),
                changed: false,
            });
        }
        let (mut stock, mut changed) = find_stock(root, sources.state, &known, &path)?;
        if let (None, Some(place)) = (&stock, self.target.slots.stock_of(slot)) {
            let key = Key::new(None, place)?;
            (stock, changed) = find_stock(root, sources.state, &key, &key.path(&root.path))?;
        }
        let here = sources.state.slots.get(key).is_some_and(|known| known.top().is_some());
        if stock.is_none() && !here && !self.may_be_new(slot, aim, placement) {
            return Err(no_such_slot(Path::new(slot), &path));
        }
        if there.kind == Kind::Nothing && !here {
            refuse_twin(&folder, key.within())?;
        }
        let hash = stock.as_ref().map(|path| sources.hash_cache.hash(path)).transpose()?;
        Ok(Stock { path: stock, hash, changed })
    }

    /// Whether a file may be put where none was.
    fn may_be_new(&self, slot: &str, aim: &Aim<'_>, placement: &Placement) -> bool {
        let ruled = match aim.rule.new {
            New::Never => false,
            New::Listed => self.target.slots.is_listed(slot),
            New::Any => true,
        };
        placement.new || ruled || self.destination.way() != Way::Slots
    }

    /// The slot that a link leads to, where it is followed; and what the user should know of links.
    pub(super) fn look_at_links(
        &self,
        slot: &str,
        placement: &Placement,
        rule: &Rule,
        sources: &Sources<'_>,
    ) -> Result<(Option<String>, Vec<Notice>)> {
        let linked = |to: &str| {
            let mut links = self.target.slots.linked_by(to);
            links.retain(|link| link != slot);
            (!links.is_empty()).then_some(Notice::LinkedBy { links })
        };
        let in_slots = self.destination.way() == Way::Slots;
        let Some(root) = self.root.as_ref().filter(|_| in_slots) else {
            return Ok((None, Vec::new()));
        };
        let place = look(&root.path, slot, sources.disk)?;
        if place.kind != Kind::Link {
            return Ok((None, linked(slot).into_iter().collect()));
        }
        let to = through_link(&root.path, &place.path, None);
        match (placement.link.or(rule.link).unwrap_or_default(), to) {
            (Links::Replace, to) => Ok((None, vec![Notice::LinkReplaced { to }])),
            (Links::Follow, None) => Err(OddPath::LinkOut.of(&place.path)),
            (Links::Follow, Some(to)) => {
                let followed = Notice::LinkFollowed { link: slot.to_owned() };
                let others = linked(&to).into_iter().collect::<Vec<_>>();
                Ok((Some(to), [vec![followed], others].concat()))
            }
        }
    }
}

/// A name that differs from one that is there in case alone, or in how accents are stored: on many a system the two would
/// be one file or folder.
fn refuse_twin(root: &Path, within: &str) -> Result<()> {
    let mut folder = root.to_owned();
    for (at, name) in within.split('/').enumerate() {
        if folder.join(name).symlink_metadata().is_ok() {
            folder.push(name);
            continue;
        }
        let is_twin = |other: &String| folded(other) == folded(name) && other != name;
        let Some(twin) = names_in(&folder).into_iter().chain(folders_in(&folder)).find(is_twin)
        else {
            return Ok(());
        };
        let mut names: Vec<&str> = within.split('/').collect();
        names[at] = &twin;
        let right = Some(names.join("/"));
        return Err(OddSlot::BadName { odd: OddName::Twin(twin), right }.of(within));
    }
    Ok(())
}

fn folders_in(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let folders = entries.filter(|entry| entry.path().is_dir());
    folders.filter_map(|entry| entry.file_name().into_string().ok()).collect()
}
