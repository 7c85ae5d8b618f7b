//! The files that a job is made of.

use deft_needle_core::run::Run;
use deft_needle_core::stock::file_of;
use std::path::PathBuf;

/// The job sheet, the target's sheet and its lists, prompt lists, clips and models.
pub fn of_job(run: &Run) -> Vec<PathBuf> {
    let job = &run.job;
    let sheet = run.target.sheet.path();
    let mut all = vec![job.path().to_owned(), sheet.to_owned()];
    let beside = sheet.parent().unwrap_or(std::path::Path::new("."));
    let lists = run.target.sheet.slots.iter().filter_map(|source| source.get_ref().from.as_ref());
    all.extend(lists.map(|list| beside.join(&list.0)));
    let prompts = job.replaces.iter().filter_map(|replace| replace.get_ref().prompts.as_ref());
    all.extend(prompts.map(|prompts| job.folder().join(&prompts.list)));
    all.extend(run.dealt.placements.iter().map(|p| file_of(p.clip.name())));
    all.sort();
    all.dedup();
    all
}
