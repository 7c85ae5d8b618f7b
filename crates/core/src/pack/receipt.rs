//! What a pack brings so that it can be installed: what it is called, its values, and its target's sheet.

use super::OWN_FOLDER;
use crate::error::internal;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::run::PackedPlace;
use crate::run::{JobPlan, Line, Run};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// What a pack says of itself.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Receipt {
    /// What it is called.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Who made it.
    #[serde(default)]
    pub author: String,
    /// What it is, in a sentence.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// Whose sounds they are, a line each.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub credits: Vec<String>,
    /// Under which licence.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub licence: String,
    /// What its target is called.
    pub target: String,
    /// Values for the sheet's templates.
    #[serde(default)]
    pub values: toml::Table,
    /// Where its files go; into the slots themselves by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<PackedPlace>,
    /// Its slots in the order of the job, which lists that are made of them keep.
    #[serde(default)]
    pub order: Vec<String>,
    /// Its slots.
    #[serde(default)]
    pub slots: BTreeMap<String, PackedSlot>,
}

/// A slot of a pack.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackedSlot {
    /// Where its file lies in the pack.
    pub file: String,
    /// The hash of that file.
    pub hash: Hash,
    /// Values for the sheet's templates, its own.
    #[serde(default)]
    pub values: toml::Table,
}

/// The receipt, the sheet, its lists and what files are made of, with their paths in the pack; nothing where the sheet says
/// that its packs carry none.
pub(super) fn receipt(
    run: &Run,
    plan: &JobPlan,
    path_of: &dyn Fn(&Line) -> PathBuf,
) -> Result<Vec<(String, Vec<u8>)>> {
    if run.layout().bare {
        return Ok(Vec::new());
    }
    let mut slots = BTreeMap::new();
    for line in &plan.lines {
        let placement = run.dealt.placements.iter().find(|p| p.slot == line.slot);
        let values = placement.and_then(|p| toml::Table::try_from(&p.values).ok());
        let slot = PackedSlot {
            file: run.packed_as(&line.slot),
            hash: Hash::of_file(&path_of(line))?,
            values: values.unwrap_or_default(),
        };
        slots.insert(line.slot.clone(), slot);
    }
    let receipt = Receipt {
        name: run.job.title().to_owned(),
        version: run.job.pack.version.clone(),
        author: run.job.pack.author.clone(),
        description: run.job.pack.description.clone(),
        credits: run.job.pack.credits.0.clone(),
        licence: run.job.pack.licence.clone(),
        target: run.target.sheet.name.clone(),
        values: run.job.values.clone(),
        place: run.packed_place.clone(),
        order: plan.lines.iter().map(|line| line.slot.clone()).collect(),
        slots,
    };
    let text = toml::to_string(&receipt)
        .map_err(|error| internal(format!("the pack cannot be described: {error}")))?;
    let sheet = &run.target.sheet;
    let mut all = vec![
        (format!("{OWN_FOLDER}/pack.toml"), text.into_bytes()),
        (format!("{OWN_FOLDER}/sheet.toml"), sheet.text().as_bytes().to_vec()),
    ];
    let folder = sheet.path().parent().unwrap_or(std::path::Path::new("."));
    let lists = sheet.slots.iter().filter_map(|source| source.get_ref().from.as_ref());
    let lists = lists.map(|list| &list.0);
    let makes = sheet.makes.iter().map(|make| make.get_ref());
    let made_of = makes.flat_map(|make| [&make.template, &make.from]).flatten();
    let manifests = sheet.pack.iter().flat_map(|pack| &pack.files);
    let templates = manifests.map(|file| &file.template.0);
    let made_of = made_of.map(|file| &file.0).chain(templates);
    let beside: BTreeSet<&String> = lists.chain(made_of).collect();
    for name in beside {
        let path = folder.join(name);
        let bytes =
            crate::disk::read_input(&path, crate::limits::LIST).map_err(Error::read(&path))?;
        all.push((format!("{OWN_FOLDER}/{name}"), bytes));
    }
    Ok(all)
}
