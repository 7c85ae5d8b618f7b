//! Manifests of packs, from templates; and what is said of whose sounds they are.

use crate::error::{Error, Result};
use crate::refusal::{OddLine, OddText};
use crate::run::{JobPlan, Run};
use crate::sheet::Fault;
use crate::template::Names;

/// Begins and ends what is repeated for every slot; each on a line of its own.
const EACH: &str = "{each}";
const END: &str = "{end}";

/// What templates of manifests know.
fn pack_names(run: &Run) -> Names {
    let mut names = run.job.names();
    let facts = &run.job.pack;
    names.set("name", run.job.name.as_str());
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
    let folder = run.target.sheet.path().parent().unwrap_or(std::path::Path::new("."));
    let mut all = Vec::new();
    let mut told = false;
    for file in &run.layout().files {
        let path = folder.join(&file.template.0);
        let template = std::fs::read_to_string(&path).map_err(Error::read(&path))?;
        told |= template.contains("{credits}") || template.contains("{licence}");
        let wrong = |odd: OddText| -> Error { Fault::whole(&path, odd).into() };
        let text = fill_in(run, &template, &names, plan, &wrong)?;
        let place = names.text(&file.path.0).map_err(|what| wrong(OddText::Template(what)))?;
        all.push((place, text.into_bytes()));
    }
    let facts = &run.job.pack;
    let silent = facts.credits.0.is_empty() && facts.licence.is_empty();
    if !told && !silent {
        let mut text = format!("{}\n", run.job.name);
        facts.credits.0.iter().for_each(|line| text += &format!("{line}\n"));
        if !facts.licence.is_empty() {
            text += &format!("Licence: {}\n", facts.licence);
        }
        all.push(("CREDITS.txt".to_owned(), text.into_bytes()));
    }
    Ok(all)
}

/// Fills a template in; what stands between `{each}` and `{end}` comes once for every slot.
fn fill_in(
    run: &Run,
    template: &str,
    names: &Names,
    plan: &JobPlan,
    wrong: &dyn Fn(OddText) -> Error,
) -> Result<String> {
    let unfilled = |what| wrong(OddText::Template(what));
    let alone = |line, lacks, within| wrong(OddLine::Each(line, lacks, within).into());
    let mut text = String::new();
    let mut repeated: Option<String> = None;
    for line in template.split_inclusive('\n') {
        match (line.trim(), repeated.take()) {
            (EACH, None) => repeated = Some(String::new()),
            (EACH, Some(_)) => return Err(alone(EACH, EACH, true)),
            (END, Some(part)) => {
                for line in &plan.lines {
                    let of_slot = crate::run::known::names_of(run, line)?;
                    text += &of_slot.text(&part).map_err(unfilled)?;
                }
            }
            (END, None) => return Err(alone(END, EACH, false)),
            (_, Some(part)) => repeated = Some(part + line),
            (_, None) => text += &names.text(line).map_err(unfilled)?,
        }
    }
    match repeated {
        None => Ok(text),
        Some(_) => Err(alone(EACH, END, false)),
    }
}
