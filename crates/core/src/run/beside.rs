//! Files beside slots: texts that tell where they loop, files that are made for them, companions of their clips.
//! They are written with the slot, and taken out with it.

use super::Run;
use super::entries::Contents;
use super::known::{names_of, spoken};
use super::line::{Line, Sources, Work};
use super::look::JobPlan;
use super::stock::find_stock;
use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::record::Held;
use crate::limits;
use crate::names::{Key, folded};
use crate::notice::Notice;
use crate::refusal::{FileKind, OddJob, OddTemplate, OddText};
use crate::root::{Kind, look};
use crate::sheet::caches::guarded;
use crate::sheet::{Fault, LoopFile, Make, Way, Within};
use crate::template::refuse_broken;
use deft_needle_audio::num::count;
use deft_needle_audio::units::{FrameRange, SampleRate};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use toml::Spanned;

/// Bytes of a text that tells a loop.
const SHORT: u64 = 64 << 10;

/// A file beside a slot.
pub(crate) struct Beside {
    /// Its path in its root.
    pub path: String,
    /// Which root; the main one by default.
    pub root: Option<String>,
    /// What it holds; nothing where it stays as it was written.
    pub bytes: Option<Vec<u8>>,
    /// Whether it is the target's own, which its tools may write anew.
    pub tended: bool,
}

impl Run {
    /// The files beside a slot, and what the user should know of them.
    pub(crate) fn beside(&self, line: &Line) -> Result<(Vec<Beside>, Vec<Notice>)> {
        let mut all = self.loops_beside(line)?;
        let mut notices = Vec::new();
        for make in &self.target.sheet.makes {
            all.extend(self.made_beside(make, line)?);
        }
        for companion in &self.target.sheet.companions.0 {
            if !companion.patterns.0.iter().any(|pattern| pattern.matches(&line.slot)) {
                continue;
            }
            let bare = line.slot.rsplit_once('.').map_or(line.slot.as_str(), |(bare, _)| bare);
            let path = format!("{bare}.{}", companion.extension.0);
            let clip = line.input.path().map(|clip| clip.with_extension(&companion.extension.0));
            match clip.filter(|clip| clip.is_file()) {
                Some(clip) => {
                    let bytes = read_input(&clip, limits::LIST).map_err(Error::read(&clip))?;
                    all.push(Beside { path, root: None, bytes: Some(bytes), tended: false });
                }
                // What is there belongs to another sound, until a tool of the target's makes it anew in its place.
                None if self.root.as_ref().is_some_and(|root| root.path.join(&path).is_file()) => {
                    notices.push(Notice::CompanionStale { file: path.clone() });
                    all.push(Beside { path, root: None, bytes: None, tended: true });
                }
                None => {}
            }
        }
        Ok((all, notices))
    }

    /// The texts that tell a slot's loop. What does not loop by itself loops as a whole: the old points would
    /// be those of another file.
    fn loops_beside(&self, line: &Line) -> Result<Vec<Beside>> {
        let Some(rule) = self.target.sheet.rule_for(&line.slot) else {
            return Ok(Vec::new());
        };
        let unchanged = matches!(line.work, Work::Unchanged { .. });
        let mut all = Vec::new();
        for file in &rule.loop_file.0 {
            let of_template = |odd: OddTemplate| self.of_sheet(odd);
            let path = file.path(&line.slot).map_err(of_template)?;
            let spoken = if unchanged { None } else { spoken(self, line)? };
            let bytes = spoken.map(|spoken| {
                let whole = FrameRange { start: 0, end: spoken.frames };
                let range = spoken.looped.unwrap_or(whole);
                let text = file.written(&line.slot, range, spoken.rate);
                text.map(String::into_bytes).map_err(of_template)
            });
            let bytes = bytes.transpose()?;
            all.push(Beside { path, root: None, bytes, tended: false });
        }
        Ok(all)
    }

    /// A file that the sheet asks to be made for a slot; nothing where it is not asked for this one.
    fn made_beside(&self, part: &Spanned<Make>, line: &Line) -> Result<Option<Beside>> {
        let make = part.get_ref();
        let matches = make.patterns.0.iter().any(|pattern| pattern.matches(&line.slot));
        if !matches || !make.when.holds(line.stock.is_none()) {
            return Ok(None);
        }
        let mut names = names_of(self, line)?;
        if let Some(find) = &make.find {
            let Some(found) = find.captures(&line.slot) else {
                return Ok(None);
            };
            names.found(&found);
        }
        let of_sheet = |odd: OddText| self.target.sheet.fault_in(part, odd);
        let filled = |text: &str| names.text(text).map_err(|odd| of_sheet(odd.into()));
        let path = filled(&make.file.0)?;
        let folder = self.target.sheet.path().parent().unwrap_or(std::path::Path::new("."));
        let read = |path: &Path| read_input(path, limits::LIST).map_err(Error::read(path));
        let made = |bytes| {
            let (path, root) = (path.clone(), make.root.clone());
            Ok(Some(Beside { path, root, bytes: Some(bytes), tended: false }))
        };
        if let Some(file) = &make.from {
            // Values of a stranger's pack must not lead out of the sheet's folder.
            let file: std::result::Result<Within, _> = filled(&file.0)?.parse();
            let file = file.map_err(|invalid| of_sheet(invalid.into()))?;
            return made(read(&folder.join(file.0))?);
        }
        let (text, broken) = match &make.template {
            Some(file) => {
                let path = folder.join(&file.0);
                let not_text = |_| -> Error { Fault::whole(&path, OddText::NotText).into() };
                let template = String::from_utf8(read(&path)?).map_err(not_text)?;
                let odd = |odd| -> Error {
                    Fault::of_template(&path, &template, &(0..template.len()), odd).into()
                };
                (names.text(&template).map_err(odd)?, Some(path))
            }
            None => (filled(make.text.as_deref().unwrap_or_default())?, None),
        };
        refuse_broken(&path, &text).map_err(|odd| match broken {
            Some(path) => Fault::whole(&path, odd).into(),
            None => of_sheet(odd.into()),
        })?;
        made(text.into_bytes())
    }

    fn of_sheet(&self, odd: impl Into<OddText>) -> Error {
        let odd = odd.into();
        Fault::whole(self.target.sheet.path(), odd).into()
    }

    /// What the ledger calls such a file.
    fn beside_key(&self, beside: &Beside, sources: &Sources<'_>) -> Result<Key> {
        self.file_key(beside.root.as_deref(), &beside.path, sources)
    }

    /// Writes the files beside all slots, but for those that lie there already.
    pub(super) fn look_at_beside(
        &self,
        plan: &mut JobPlan,
        sources: &Sources<'_>,
    ) -> Result<BTreeSet<Key>> {
        let mut keys = BTreeSet::new();
        let mut made: BTreeMap<(Option<String>, String), Hash> = BTreeMap::new();
        let mut told = BTreeSet::new();
        let mut bytes = 0;
        // An archive or a pack brings them along.
        let placed = self.root.is_some() && self.destination.way() != Way::Archive;
        for at in 0..plan.lines.len() {
            let (all, notices) = match self.beside(&plan.lines[at]) {
                Ok(beside) => beside,
                Err(error) => {
                    // What is wrong with the sheet is not wrong again for each slot.
                    let what = match &error {
                        Error::Sheet(fault) => format!("{:?} {:?}", fault.path, fault.spot),
                        other => other.to_string(),
                    };
                    if told.insert(what) {
                        plan.faults.push(error);
                    }
                    continue;
                }
            };
            plan.lines[at].notices.extend(notices);
            for beside in all {
                bytes += beside.bytes.as_ref().map_or(0, |bytes| count(bytes.len()));
                if bytes > limits::BESIDE {
                    return Err(OddJob::TooMuchBeside { most: limits::BESIDE }.into());
                }
                if let Some(odd) = self.in_the_way(&beside, &mut made) {
                    plan.faults.push(self.of_sheet(odd));
                    continue;
                }
                if !placed {
                    continue;
                }
                let key = self.beside_key(&beside, sources)?;
                keys.insert(key.clone());
                let of = Some(plan.lines[at].key.clone());
                if beside.tended {
                    let own = self.tended(&key, sources)?;
                    plan.files.extend(own.map(|own| (key, Contents::beside(own, of, true))));
                    continue;
                }
                let Some(bytes) = beside.bytes.filter(|bytes| !self.lies(&key, bytes, sources))
                else {
                    continue;
                };
                plan.files.insert(key, Contents::beside(bytes, of, false));
            }
        }
        Ok(keys)
    }

    /// The target's own file that its tools may write anew; nothing where the ledger keeps it already.
    fn tended(&self, key: &Key, sources: &Sources<'_>) -> Result<Option<Vec<u8>>> {
        let known = sources.state.slots.get(key);
        let (Some(root), false) = (&self.root, known.is_some_and(|known| known.top().is_some()))
        else {
            return Ok(None);
        };
        let place = look(&sources.state.root_of(&root.path, key)?, key.within(), sources.disk)?;
        match place.kind {
            Kind::File => {
                let read = read_input(&place.path, limits::LIST);
                read.map(Some).map_err(Error::read(&place.path))
            }
            _ => Ok(None),
        }
    }

    /// What else lies where a file would be written.
    fn in_the_way(
        &self,
        beside: &Beside,
        made: &mut BTreeMap<(Option<String>, String), Hash>,
    ) -> Option<OddText> {
        let file = beside.path.clone();
        let sheet = &self.target.sheet;
        if sheet.is_main(beside.root.as_deref()) {
            let is_slot = self.target.slots.has(&file)
                || self.dealt.placements.iter().any(|p| folded(&p.slot) == folded(&file));
            let kind = is_slot.then_some(FileKind::Slot).or_else(|| guarded(sheet, &file));
            if let Some(kind) = kind {
                return Some(OddText::MadeOver { file, kind });
            }
        }
        let hash = Hash::of(beside.bytes.as_ref()?);
        let other = made.insert((beside.root.clone(), folded(&file)), hash)?;
        (other != hash).then_some(OddText::MadeTwice(file))
    }

    /// Whether a file of ours holds just this.
    fn lies(&self, key: &Key, bytes: &[u8], sources: &Sources<'_>) -> bool {
        let top = sources.state.slots.get(key).and_then(|known| known.top());
        let ours = top.is_some_and(|top| top.held == Held::File(Hash::of(bytes)));
        ours && self.still(key, sources)
    }

    /// Whether a file of ours is as it was written.
    fn still(&self, key: &Key, sources: &Sources<'_>) -> bool {
        let Some(root) = &self.root else { return true };
        let expected = sources.state.slots.get(key).and_then(|known| known.expected());
        let path = sources.state.path_of(&root.path, key);
        let now = path.and_then(|path| Hash::of_file(&path)).map(Held::File).ok();
        expected.is_some() && expected == now
    }

    /// Whether the texts that tell a slot's loop lie as they were written.
    pub(super) fn has_loop_files(&self, slot: &str, sources: &Sources<'_>) -> bool {
        let rule = self.target.sheet.rule_for(slot);
        if self.destination.way() == Way::Archive {
            return true;
        }
        rule.into_iter().flat_map(|rule| &rule.loop_file.0).all(|file| {
            let key = file.path(slot).map_err(|odd| self.of_sheet(odd));
            let key = key.and_then(|path| self.file_key(None, &path, sources));
            key.is_ok_and(|key| self.still(&key, sources))
        })
    }

    /// What the text beside a slot's stock says.
    pub(super) fn stock_loop(
        &self,
        slot: &str,
        sources: &Sources<'_>,
    ) -> Option<(LoopFile, String)> {
        let root = self.root.as_ref()?;
        let files = &self.target.sheet.rule_for(slot)?.loop_file.0;
        files.iter().find_map(|file| {
            let key = Key::new(None, &file.path(slot).ok()?).ok()?;
            let (stock, _) = find_stock(root, sources.state, &key, &key.path(&root.path)).ok()?;
            let text = String::from_utf8(read_input(&stock?, SHORT).ok()?).ok()?;
            Some((file.clone(), text))
        })
    }
}

impl Line {
    /// The loop that a text beside the stock tells.
    pub(super) fn told_loop(&self, rate: SampleRate) -> Option<FrameRange> {
        let (file, text) = self.stock_loop.as_ref()?;
        file.read(text, rate)
    }
}
