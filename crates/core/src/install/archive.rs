//! A job as one archive of additions, dropped into the folder that the target reads them from.

use super::job::{Installation, Outlook, Placed, Run};
use crate::disk::Disk;
use crate::error::Result;
use crate::hash::Hash;
use crate::install::job::{finish, now};
use crate::ledger::record::Installed;
use crate::ledger::{Ledger, What};
use crate::names::Key;
use deft_needle_audio::Observer;

/// Packs the job, and puts the archive in its place.
pub fn place(
    run: &Run,
    outlook: &Outlook,
    ledger: &mut Ledger<'_>,
    archive: &Key,
    disk: &dyn Disk,
    observer: &dyn Observer,
    done: &mut Installation,
) -> Result<()> {
    let packed = run.make_pack(outlook, disk, observer)?;
    let form = run.target.sheet.pack.as_ref().map(|pack| pack.form).unwrap_or_default();
    let fingerprint = packed.fingerprint()?;
    let known = ledger.state().slots.get(archive).and_then(|known| known.top());
    let same = known.is_some_and(|top| top.installed.key == Some(fingerprint));
    let here = known.map(|top| top.held) == Some(ledger.held(archive)?);
    if same && here && outlook.files.is_empty() && outlook.back.is_empty() {
        done.caches.clear();
        done.unchanged = outlook.lines.iter().map(|line| line.slot.clone()).collect();
        return Ok(());
    }
    let keys = std::iter::once(archive.clone());
    let keys = keys.chain(outlook.back.iter().map(|back| back.key.clone()));
    let keys: Vec<Key> = keys.chain(outlook.files.keys().cloned()).collect();
    let mut change = ledger.begin(What::Install, &keys, outlook.caches.clone())?;
    let part = change.part(archive)?;
    packed.write_part(form, &part, disk)?;
    let hash = Hash::of_file(&part)?;
    let installed = |clip: String, edits: Vec<String>| Installed {
        clip,
        clip_hash: None,
        edits,
        spec: format!("opaque, {} files", packed.members.len()),
        seconds: 0.0,
        lufs: None,
        guide: false,
        at: now(),
        job: Some(run.job.name.clone()),
        clip_path: None,
        options: Default::default(),
        key: Some(fingerprint),
    };
    let lines = outlook.lines.iter();
    let edits = lines.map(|line| format!("holds {}: {}", line.slot, line.clip)).collect();
    change.install(archive, hash, installed(run.job.name.clone(), edits))?;
    for line in &outlook.lines {
        done.placed.push(Placed {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            installed: installed(line.clip.clone(), Vec::new()),
            warnings: Vec::new(),
        });
    }
    done.archive = Some(archive.clone());
    finish(run, outlook, change, disk, done)
}
