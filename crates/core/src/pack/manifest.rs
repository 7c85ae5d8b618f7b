//! Manifests of packs, from templates; and what is said of whose sounds they are.

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::{OddLine, OddText};
use crate::run::{JobPlan, Run};
use crate::sheet::Fault;
use crate::template::{Names, refuse_broken};
use std::ops::Range;
use std::path::Path;

/// Begins and ends what is repeated for every slot; each on a line of its own.
const EACH: &str = "{each}";
const END: &str = "{end}";

/// What stands between the parts of what is repeated: `{each, separator ","}`.
fn separator(line: &str) -> Option<String> {
    if line == EACH {
        return Some(String::new());
    }
    let rest = line.strip_prefix("{each,")?.strip_suffix('}')?.trim();
    let quoted = rest.strip_prefix("separator")?.trim();
    serde_json::from_str(quoted).ok()
}

/// What templates of manifests know.
fn pack_names(run: &Run) -> Names {
    let mut names = run.job.names();
    let facts = &run.job.pack;
    names.set("name", run.job.title());
    names.set("target", run.target.sheet.name.as_str());
    names.set("version", facts.version.as_str());
    names.set("author", facts.author.as_str());
    names.set("description", facts.description.as_str());
    names.set("licence", facts.licence.as_str());
    names.set("credits", facts.credits.0.join("\n"));
    names
}

/// The manifests with their paths in the pack, and the credits where no manifest tells them.
pub(super) fn manifests(run: &Run, plan: &JobPlan) -> Result<Vec<(String, Vec<u8>)>> {
    let names = pack_names(run);
    let folder = run.target.sheet.path().parent().unwrap_or(Path::new("."));
    let mut all = Vec::new();
    let mut told = false;
    for file in &run.layout().files {
        let path = folder.join(&file.template.0);
        let bytes = read_input(&path, limits::LIST).map_err(Error::read(&path))?;
        let not_text = |_| -> Error { Fault::whole(&path, OddText::NotText).into() };
        let template = String::from_utf8(bytes).map_err(not_text)?;
        told |= template.contains("{credits}") || template.contains("{licence}");
        let text = fill_in(run, &path, &template, &names, plan)?;
        let of_sheet = |odd| Fault::whole(run.target.sheet.path(), odd);
        let place = names.text(&file.path.0).map_err(of_sheet)?;
        refuse_broken(&place, &text).map_err(|odd| Fault::whole(&path, odd))?;
        all.push((place, text.into_bytes()));
    }
    let facts = &run.job.pack;
    let silent = facts.credits.0.is_empty() && facts.licence.is_empty();
    if !told && !silent {
        let mut text = format!("{}\n", run.job.title());
        facts.credits.0.iter().for_each(|line| text += &format!("{line}\n"));
        if !facts.licence.is_empty() {
            text += &format!("Licence: {}\n", facts.licence);
        }
        all.push(("CREDITS.txt".to_owned(), text.into_bytes()));
    }
    Ok(all)
}

/// Parts with something between them, before the end of each one's last line.
fn joined(parts: &[String], between: &str) -> String {
    let mut text = String::new();
    for (at, part) in parts.iter().enumerate() {
        let bare = part.trim_end_matches(['\r', '\n']);
        text += bare;
        if at + 1 < parts.len() {
            text += between;
        }
        text += &part[bare.len()..];
    }
    text
}

/// Fills a template in; what stands between `{each}` and `{end}` comes once for every slot.
fn fill_in(
    run: &Run,
    path: &Path,
    template: &str,
    names: &Names,
    plan: &JobPlan,
) -> Result<String> {
    let wrong = |line: &Range<usize>, odd: OddText| -> Error {
        Fault::of_template(path, template, line, odd).into()
    };
    let mut text = String::new();
    let mut repeated: Option<(Range<usize>, String)> = None;
    let mut end = 0;
    for line in template.split_inclusive('\n') {
        let at = end..end + line.len();
        end = at.end;
        let trimmed = line.trim();
        let alone = |line, lacks, within| wrong(&at, OddLine::Each(line, lacks, within).into());
        match (separator(trimmed), repeated.take()) {
            (Some(between), None) => repeated = Some((at.end..at.end, between)),
            (Some(_), Some(_)) => return Err(alone(EACH, EACH, true)),
            (None, Some((part, between))) if trimmed == END => {
                let mut parts = Vec::new();
                for line in &plan.lines {
                    let of_slot = crate::run::known::names_of(run, line)?;
                    let filled = of_slot.text(&template[part.clone()]);
                    parts.push(filled.map_err(|odd| wrong(&part, odd.into()))?);
                }
                text += &joined(&parts, &between);
            }
            (None, None) if trimmed == END => return Err(alone(END, EACH, false)),
            (None, Some((part, between))) => repeated = Some((part.start..at.end, between)),
            (None, None) => {
                text += &names.text(line).map_err(|odd| wrong(&at, odd.into()))?;
            }
        }
    }
    match repeated {
        None => Ok(text),
        Some(_) => Err(wrong(&(0..template.len()), OddLine::Each(EACH, END, false).into())),
    }
}
