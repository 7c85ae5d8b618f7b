//! A job as one archive of additions, or a folder laid out as one, dropped into the folder that the target reads
//! them from.

use super::packed::Packed;
use super::place::{Installation, Placed, finish};
use super::{JobPlan, Run};
use crate::disk::Disk;
use crate::disk::{Durable, copy_file};
use crate::error::Result;
use crate::hash::Hash;
use crate::ledger::record::{Held, Installed};
use crate::ledger::{Ledger, What};
use crate::names::Key;
use crate::refusal::OddSlot;
use crate::sheet::PackForm;
use deft_needle_audio::Observer;
use std::collections::BTreeMap;
use std::path::Path;

/// Packs the job, and puts the archive in its place.
pub fn place(
    run: &Run,
    plan: &mut JobPlan,
    ledger: &mut Ledger<'_>,
    archive: &Key,
    disk: &dyn Disk,
    observer: &dyn Observer,
    done: &mut Installation,
) -> Result<()> {
    let is_ours = ledger.state().slots.get(archive).is_some_and(|known| known.top().is_some());
    if !is_ours && run.layout().form != PackForm::Folder && ledger.held(archive)? != Held::Nothing {
        return Err(OddSlot::ArchiveThere.of(archive.to_string()));
    }
    let packed = run.make_pack(plan, disk, observer)?;
    let form = run.layout().form;
    if form == PackForm::Folder {
        return place_folder(run, plan, ledger, archive, &packed, disk, done);
    }
    let fingerprint = packed.fingerprint()?;
    let known = ledger.state().slots.get(archive).and_then(|known| known.top());
    let same = known.is_some_and(|top| top.installed.key == Some(fingerprint));
    let here = known.map(|top| top.held) == Some(ledger.held(archive)?);
    if same && here && plan.files.is_empty() && plan.back.is_empty() {
        return nothing_to_do(plan, done);
    }
    let keys = plan.keys(std::iter::once(archive.clone()));

    let mut change = ledger.begin(What::Install, &keys, plan.caches.clone(), plan.copies())?;
    let part = change.part(archive)?;
    packed.write_part(form, &part, disk)?;
    let hash = Hash::of_file(&part)?;
    let installed = Installed {
        clip: run.job.title().to_owned(),
        edits: plan
            .lines
            .iter()
            .map(|line| format!("holds {}: {}", line.slot, line.clip))
            .collect(),
        ..as_part(run, &packed, fingerprint)
    };
    change.install(archive, hash, installed, None)?;
    tell_placed(run, plan, &packed, fingerprint, done);
    done.archive = Some(archive.clone());
    finish(run, plan, change, disk, done)
}

/// Puts every file of the pack below a folder.
fn place_folder(
    run: &Run,
    plan: &mut JobPlan,
    ledger: &mut Ledger<'_>,
    folder: &Key,
    packed: &Packed,
    disk: &dyn Disk,
    done: &mut Installation,
) -> Result<()> {
    let fingerprint = packed.fingerprint()?;
    let main = run.root.as_ref().map_or(Path::new("."), |root| &root.path);
    let mut members: BTreeMap<Key, &Path> = BTreeMap::new();
    let mut names: BTreeMap<Key, &str> = BTreeMap::new();
    for (name, path) in &packed.members {
        let within = format!("{}/{name}", folder.within());
        let key = ledger.state().key(main, folder.root(), &within, disk)?;
        names.insert(key.clone(), name);
        members.insert(key, path);
    }
    let mut wanted: Vec<(&Key, &Path, Hash)> = Vec::new();
    for (key, path) in &members {
        let hash = Hash::of_file(path)?;
        let known = ledger.state().slots.get(key).and_then(|known| known.top());
        let ours = known.is_some_and(|top| top.installed.job.as_deref() == run.job.layer());
        if let Some(error) = run.refuse_covered(key, ledger.state()) {
            return Err(error);
        }
        if !ours || ledger.held(key)? != Held::File(hash) {
            wanted.push((key, path, hash));
        }
    }
    run.look_back_below(folder, &members, ledger, plan)?;
    plan.faults.drain(..).next().map_or(Ok(()), Err)?;
    if wanted.is_empty() && plan.files.is_empty() && plan.back.is_empty() {
        return nothing_to_do(plan, done);
    }
    let keys = plan.keys(wanted.iter().map(|(key, ..)| (*key).clone()));

    let mut change = ledger.begin(What::Install, &keys, plan.caches.clone(), plan.copies())?;
    for (key, path, hash) in wanted {
        copy_file(path, &change.part(key)?, Durable::No, disk)?;
        let installed = match names.get(key).and_then(|name| packed.made.get(*name)) {
            Some(made) => made.clone(),
            None => Installed {
                clip: run.job.title().to_owned(),
                beside: true,
                ..as_part(run, packed, fingerprint)
            },
        };
        change.install(key, hash, installed, None)?;
    }
    tell_placed(run, plan, packed, fingerprint, done);
    finish(run, plan, change, disk, done)
}

fn nothing_to_do(plan: &JobPlan, done: &mut Installation) -> Result<()> {
    done.caches.clear();
    done.unchanged = plan.lines.iter().map(|line| line.slot.clone()).collect();
    Ok(())
}

fn as_part(run: &Run, packed: &Packed, fingerprint: Hash) -> Installed {
    Installed {
        spec: format!("opaque, {} files", packed.members.len()),
        key: Some(fingerprint),
        ..run.placed_now()
    }
}

fn tell_placed(
    run: &Run,
    plan: &JobPlan,
    packed: &Packed,
    fingerprint: Hash,
    done: &mut Installation,
) {
    for line in &plan.lines {
        let clip = line.clip.clone();
        done.placed.push(Placed {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            installed: Installed { clip, ..as_part(run, packed, fingerprint) },
            new: line.stock.is_none(),
            before: None,
            after: None,
            outcome: None,
            plan: None,
            notices: Vec::new(),
        });
    }
}
