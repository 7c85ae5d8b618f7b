//! Small texts beside slots that tell where they loop: written with the slot, and taken out with it.

use super::Run;
use super::entries::Contents;
use super::known::spoken;
use super::line::{Line, Sources, Work};
use super::look::JobPlan;
use super::stock::find_stock;
use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::record::Held;
use crate::names::Key;
use crate::refusal::OddText;
use crate::sheet::{Fault, LoopFile, Way};
use deft_needle_audio::units::FrameRange;

/// Bytes of such a text.
const SHORT: u64 = 64 << 10;

impl Run {
    /// What the ledger calls the texts of a slot; none where all goes into one archive.
    pub(super) fn loop_files<'a>(
        &'a self,
        slot: &str,
        sources: &Sources<'_>,
    ) -> Result<Vec<(Key, &'a LoopFile)>> {
        let rule = self.target.sheet.rule_for(slot);
        let files = rule.map_or(&[][..], |rule| &rule.loop_file.0);
        let Some(root) = self.root.as_ref().filter(|_| self.destination.way() != Way::Archive)
        else {
            return Ok(Vec::new());
        };
        let key = |file: &'a LoopFile| {
            let path = file.path(slot).map_err(|what| self.of_template(what))?;
            let key = self.destination.key(&path, sources.state, &root.path, sources.disk)?;
            Ok((key, file))
        };
        files.iter().map(key).collect()
    }

    fn of_template(&self, what: String) -> Error {
        Fault::whole(self.target.sheet.path(), OddText::Template(what)).into()
    }

    /// Writes the texts of all slots. What does not loop by itself loops as a whole: the old points would
    /// be those of another file.
    pub(super) fn look_at_loop_files(
        &self,
        plan: &mut JobPlan,
        sources: &Sources<'_>,
    ) -> Result<()> {
        let mut files = Vec::new();
        for line in &plan.lines {
            if matches!(line.work, Work::Unchanged { .. }) {
                continue;
            }
            let told = self.loop_files(&line.slot, sources)?;
            if told.is_empty() {
                continue;
            }
            let Some(spoken) = spoken(self, line)? else { continue };
            let whole = FrameRange { start: 0, end: spoken.frames };
            let range = spoken.looped.unwrap_or(whole);
            for (key, file) in told {
                let text = file.written(&line.slot, range, spoken.rate);
                let bytes = text.map_err(|what| self.of_template(what))?.into_bytes();
                let of = Some(line.key.clone());
                files.push((key, Contents { bytes, seen: Held::Nothing, told: None, of }));
            }
        }
        plan.files.extend(files);
        Ok(())
    }

    /// Whether the texts of a slot lie as they were written.
    pub(super) fn has_loop_files(&self, slot: &str, sources: &Sources<'_>) -> bool {
        let Some(root) = &self.root else { return true };
        let lies = |(key, _): &(Key, &LoopFile)| {
            let top = sources.state.slots.get(key).and_then(|known| known.top());
            let path = sources.state.path_of(&root.path, key);
            let now = path.and_then(|path| Hash::of_file(&path)).map(Held::File).ok();
            top.is_some_and(|top| Some(top.held) == now)
        };
        self.loop_files(slot, sources).is_ok_and(|files| files.iter().all(lies))
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
    pub(super) fn told_loop(
        &self,
        rate: deft_needle_audio::units::SampleRate,
    ) -> Option<FrameRange> {
        let (file, text) = self.stock_loop.as_ref()?;
        file.read(text, rate)
    }
}
