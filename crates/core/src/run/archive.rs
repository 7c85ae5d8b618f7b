//! A job as one archive of additions, dropped into the folder that the target reads them from.

use super::place::{Installation, Placed, finish};
use super::{JobPlan, Run};
use crate::disk::Disk;
use crate::error::Result;
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::ledger::{Ledger, What};
use crate::names::Key;
use deft_needle_audio::Observer;

/// Packs the job, and puts the archive in its place.
pub fn place(
    run: &Run,
    plan: &JobPlan,
    ledger: &mut Ledger<'_>,
    archive: &Key,
    disk: &dyn Disk,
    observer: &dyn Observer,
    done: &mut Installation,
) -> Result<()> {
    let packed = run.make_pack(plan, disk, observer)?;
    let form = run.target.sheet.pack.as_ref().map(|pack| pack.form).unwrap_or_default();
    let fingerprint = packed.fingerprint()?;
    let known = ledger.state().slots.get(archive).and_then(|known| known.top());
    let same = known.is_some_and(|top| top.installed.key == Some(fingerprint));
    let here = known.map(|top| top.held) == Some(ledger.held(archive)?);
    if same && here && plan.files.is_empty() && plan.back.is_empty() {
        done.caches.clear();
        done.unchanged = plan.lines.iter().map(|line| line.slot.clone()).collect();
        return Ok(());
    }
    let keys = plan.keys(std::iter::once(archive.clone()));

    let mut change = ledger.begin(What::Install, &keys, plan.caches.clone())?;
    let part = change.part(archive)?;
    packed.write_part(form, &part, disk)?;
    let hash = Hash::of_file(&part)?;
    let installed = |clip: String, edits: Vec<String>| Installed {
        clip,
        edits,
        spec: format!("opaque, {} files", packed.members.len()),
        key: Some(fingerprint),
        ..run.placed_now()
    };
    let lines = plan.lines.iter();
    let edits = lines.map(|line| format!("holds {}: {}", line.slot, line.clip)).collect();
    change.install(archive, hash, installed(run.job.name.clone(), edits))?;
    for line in &plan.lines {
        done.placed.push(Placed {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            installed: installed(line.clip.clone(), Vec::new()),
            new: line.stock.is_none(),
            before: None,
            after: None,
            outcome: None,
            plan: None,
            notices: Vec::new(),
        });
    }
    done.archive = Some(archive.clone());
    finish(run, plan, change, disk, done)
}
