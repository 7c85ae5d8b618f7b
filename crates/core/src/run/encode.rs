//! Files that an outside encoder makes of what it is fed, one by one or many in a call.

use super::Run;
use super::fitting::{Fitting, Written};
use super::line::{Line, Work};
use crate::disk::Disk;
use crate::disk::{Durable, copy_file};
use crate::encoder::{Encoder, TOGETHER, private_folder};
use crate::error::internal;
use crate::error::{Error, Result};
use crate::refusal::{OddJob, OutsideFault};
use crate::sheet::OutsideEncoder;
use crate::stock::Member;
use deft_needle_audio::read::{Hints, Private};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::{Observer, Plan};
use rayon::prelude::*;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// What an encoder has made, and what only rendering its feed knows.
pub(super) type Encoded = (PathBuf, Outcome);

/// What calls of encoders have made for several lines, by the lines' places.
pub(super) struct Together {
    pub made: HashMap<usize, Encoded>,
    /// Kept until all is copied.
    _folders: Vec<Private>,
}

impl OutsideEncoder {
    /// Has it make a file of a planned clip, at `out`; `out` lies in a private folder, as what it is fed does. `hints`
    /// tell how that is read.
    ///
    /// # Errors
    /// Those of fitting, and of the command.
    pub fn make(
        &self,
        fitting: &Fitting<'_>,
        plan: &Plan,
        out: &Path,
        hints: &Hints,
        observer: &dyn Observer,
    ) -> Result<Written> {
        let encoder = Encoder::of_rule(self).map_err(OddJob::BadCommand)?;
        let extension = plan.to.format.container.facts().extensions[0];
        let input = out.with_file_name(format!("in.{extension}"));
        let disk = crate::RealDisk::default();
        let written = fitting.write(plan, &input, None, &disk, observer)?;
        encoder.run(&input, out, observer)?;
        encoder.refuse_other_sound(&input, out, hints, observer)?;
        Ok(written)
    }
}

impl Run {
    /// Has an outside encoder make the file.
    pub(super) fn encode(
        &self,
        line: &Line,
        plan: &Plan,
        encoder: &OutsideEncoder,
        part: &Path,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Written> {
        let clip = line.open()?;
        let folder = private_folder()?;
        let made = folder.path().join("out");
        let fitting = Fitting { rule: None, ..self.fitting(line, &clip) };
        let written = encoder.make(&fitting, plan, &made, &line.hints(), observer)?;
        self.refuse_made(line, &made)?;
        copy_file(&made, part, Durable::No, disk)?;
        Ok(written)
    }

    /// What encoders that take many files in a call make of these lines.
    pub(super) fn encode_together(
        &self,
        lines: &[&Line],
        first: &[usize],
        observer: &dyn Observer,
    ) -> Result<Together> {
        let mut calls: Vec<(&OutsideEncoder, Vec<usize>)> = Vec::new();
        for at in first {
            let Work::Encode { encoder, .. } = &lines[*at].work else { continue };
            if !encoder.takes_many() {
                continue;
            }
            let same = |call: &&mut (&OutsideEncoder, Vec<usize>)| {
                call.0 == encoder && call.1.len() < TOGETHER
            };
            match calls.iter_mut().rev().find(same) {
                Some(call) => call.1.push(*at),
                None => calls.push((encoder, vec![*at])),
            }
        }
        let done: Vec<(Private, Vec<(usize, Encoded)>)> = calls
            .par_iter()
            .map(|(encoder, places)| {
                let folder = private_folder()?;
                let fed: Vec<(PathBuf, Outcome)> = places
                    .par_iter()
                    .map(|at| {
                        self.feed(lines[*at], &folder.path().join(format!("in-{at}")), observer)
                    })
                    .collect::<Result<_>>()?;
                let inputs: Vec<PathBuf> = fed.iter().map(|(input, _)| input.clone()).collect();
                let encoder = Encoder::of_rule(encoder).map_err(OddJob::BadCommand)?;
                let made = encoder.run_together(&inputs, observer)?;
                inputs.par_iter().zip(&made).zip(places).try_for_each(|((fed, made), at)| {
                    let line = lines[*at];
                    let same = encoder.refuse_other_sound(fed, made, &line.hints(), observer);
                    same.map_err(|error| self.of_slot(&line.slot, &line.clip, error))
                })?;
                let outcomes = fed.into_iter().map(|(_, outcome)| outcome);
                Ok((folder, places.iter().copied().zip(made.into_iter().zip(outcomes)).collect()))
            })
            .collect::<Result<_>>()?;
        let (folders, made): (Vec<_>, Vec<_>) = done.into_iter().unzip();
        Ok(Together { made: made.into_iter().flatten().collect(), _folders: folders })
    }

    /// Writes what an encoder is fed of a line, at a path that lacks only its extension.
    fn feed(
        &self,
        line: &Line,
        stem: &Path,
        observer: &dyn Observer,
    ) -> Result<(PathBuf, Outcome)> {
        let write = || {
            let clip = line.open()?;
            let fitting = Fitting { rule: None, ..self.fitting(line, &clip) };
            let Work::Encode { plan, .. } = &line.work else {
                return Err(internal("a line that is fed to no encoder".to_owned()));
            };
            let extension = plan.to.format.container.facts().extensions[0];
            let input = stem.with_extension(extension);
            let disk = crate::RealDisk::default();
            let written = fitting.write(plan, &input, None, &disk, observer)?;
            Ok((input, written.outcome))
        };
        write().map_err(|error| self.of_slot(&line.slot, &line.clip, error))
    }

    /// What an encoder has made must be what the rule asks, before anything is placed.
    pub(super) fn refuse_made(&self, line: &Line, made: &Path) -> Result<()> {
        let member = Member::of_file(&line.slot, made)?;
        match self.target.shortfalls(&line.slot, &member).into_iter().next() {
            None => Ok(()),
            Some(short) => Err(Error::Outside {
                role: "encoder",
                program: String::new(),
                why: OutsideFault::Unfit { slot: line.slot.clone(), why: Box::new(short.into()) },
            }),
        }
    }
}
