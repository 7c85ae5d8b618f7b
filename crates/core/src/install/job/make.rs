//! Making the file of one slot beside its place, and proving it.

use super::Run;
use super::carry_out::now;
use super::line::{Line, Work};
use crate::disk::Disk;
use crate::encoder::Encoder;
use crate::error::{Error, Result};
use crate::fit::{Durable, copy_file, write_verified};
use crate::hash::Hash;
use crate::install::Warning;
use crate::ledger::record::Installed;
use crate::stock::Member;
use deft_needle_audio::plan::Step;
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::survey::{Ask, survey};
use deft_needle_audio::{Clip, Observer, Plan};
use std::path::Path;
use std::time::Duration;

/// Louder or quieter than the stock by this is worth a warning, in LU.
const LEVEL_APART: f64 = 6.0;

/// A file that was made beside its place.
pub struct Fitted {
    /// Its hash.
    pub hash: Hash,
    /// Its size.
    pub bytes: u64,
    /// What the ledger will say of it.
    pub installed: Installed,
    /// What the user should know.
    pub warnings: Vec<Warning>,
}

impl Run {
    /// Makes one line's file at a place of its own.
    pub(crate) fn fit_into(
        &self,
        line: &Line,
        path: &Path,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<()> {
        self.fit(line, path, disk, observer).map(drop)
    }

    /// Makes one line's file at `part`, and proves it.
    pub(super) fn fit(
        &self,
        line: &Line,
        part: &Path,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Fitted> {
        let rule = self.target.sheet.rule_for(&line.slot);
        let (spec, seconds, lufs, edits, warnings) = match &line.work {
            Work::Fit { plan } => {
                let clip = Clip::from_input(Input::file(&line.clip_path), &line.hints)?;
                let written =
                    write_verified(&clip, plan, part, Durable::Yes, rule, disk, observer)?;
                let mut warnings = Warning::of_outcome(&written.outcome, plan.to.format.rate);
                let lufs = self.judge(line, plan, part, &mut warnings, observer)?;
                let facts = written.facts;
                (facts.format.to_string(), facts.seconds(), lufs, decisions(plan), warnings)
            }
            Work::AsIs { bytes } => {
                copy_file(&line.clip_path, part, disk)?;
                let edits = vec![format!("whole file: as it was finished, {bytes} bytes")];
                let clip = Clip::from_input(Input::file(part), &line.hints).ok();
                let facts = clip.as_ref().map(Clip::facts);
                let spec = facts.map(|facts| facts.format.to_string());
                let spec = spec.unwrap_or_else(|| format!("opaque, {bytes} bytes"));
                let seconds = facts.map_or(0.0, deft_needle_audio::Facts::seconds);
                (spec, seconds, None, edits, Vec::new())
            }
            Work::Encode { plan, command } => {
                let limit = rule.and_then(|rule| rule.encoder.as_ref()).map_or(60, |e| e.seconds);
                let bytes = self.encode(line, plan, (command, limit), part, disk, observer)?;
                let mut edits = decisions(plan);
                edits.push(format!("encoder: {}", command.join(" ")));
                (format!("opaque, {bytes} bytes"), 0.0, None, edits, Vec::new())
            }
            Work::Unchanged { installed } => {
                let same = installed.clone();
                (same.spec, same.seconds, same.lufs, same.edits, Vec::new())
            }
        };
        let bytes = std::fs::metadata(part).map_err(Error::read(part))?.len();
        let separates =
            |plan: &Plan| plan.steps().iter().any(|s| matches!(s, Step::Separate { .. }));
        Ok(Fitted {
            hash: Hash::of_file(part)?,
            bytes,
            warnings,
            installed: Installed {
                clip: line.clip.clone(),
                clip_hash: Some(line.clip_hash),
                edits,
                spec,
                seconds,
                lufs,
                guide: matches!(&line.work, Work::Fit { plan } if separates(plan)),
                at: now(),
                job: Some(self.job.name.clone()),
                clip_path: crate::install::absolute(Some(&line.clip_path)),
                options: Default::default(),
                key: Some(line.fit_key),
            },
        })
    }

    /// What is heard of the made file that the user should know; its loudness where that is compared.
    fn judge(
        &self,
        line: &Line,
        plan: &Plan,
        part: &Path,
        warnings: &mut Vec<Warning>,
        observer: &dyn Observer,
    ) -> Result<Option<f64>> {
        let hints = Hints { raw: None, loop_tags: Some(plan.to.loop_tags.clone()) };
        let made = Clip::from_input(Input::file(part), &hints)?;
        warnings.extend(Warning::of_seam(&made, &line.edits)?);
        let Some(stock) = line.stock_lufs else {
            return Ok(None);
        };
        let lufs = survey(&made, Ask::ALL, observer)?.loudness.lufs;
        let by = lufs - stock;
        if by.is_finite() && by.abs() >= LEVEL_APART {
            warnings.push(Warning::Level { by });
        }
        Ok(Some(lufs).filter(|lufs| lufs.is_finite()))
    }

    /// Has an outside encoder make the file.
    fn encode(
        &self,
        line: &Line,
        plan: &Plan,
        (command, limit): (&[String], u64),
        part: &Path,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<u64> {
        let clip = Clip::from_input(Input::file(&line.clip_path), &line.hints)?;
        let encoder = Encoder::new(command.to_vec(), Duration::from_secs(limit))
            .map_err(|what| Error::refused(what, "mend the sheet's encoder"))?;
        let folder = crate::encoder::private_folder()?;
        let extension = plan.to.format.container.facts().extensions[0];
        let input = folder.path().join(format!("in.{extension}"));
        let made = folder.path().join("out");
        write_verified(&clip, plan, &input, Durable::No, None, disk, observer)?;
        encoder.run(&input, &made, observer)?;
        self.refuse_made(line, &made)?;
        copy_file(&made, part, disk)
    }
}

impl Run {
    /// What an encoder has made must be what the rule asks, before anything is placed.
    fn refuse_made(&self, line: &Line, made: &Path) -> Result<()> {
        let member = Member::of_file(&line.slot, made)?;
        match self.target.shortfalls(&line.slot, &member).into_iter().next() {
            None => Ok(()),
            Some(what) => Err(Error::Outside {
                what: format!("what the encoder made for {} fails: {what}", line.slot),
                instead: "check the encoder's options in the sheet".to_owned(),
            }),
        }
    }
}

fn decisions(plan: &Plan) -> Vec<String> {
    let decisions = plan.decisions.iter();
    decisions.map(|d| format!("{}: {}", d.about, d.what)).collect()
}
