//! Clips to files that meet a spec.

mod jobs;
mod report;

use super::{sort_out, tell_unread};
use crate::args::Fit;
use crate::commands::counted;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use crate::paths::{Sound, is_stream, means_folder, open_clip, refuse_terminal, sounds};
use crate::progress::Progress;
use crate::report::plan::words;
use deft_needle_audio::Unmet;
use deft_needle_audio::plan::{Reference, Surveys};
use deft_needle_audio::read::Hints;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::shape::Step;
use deft_needle_audio::{Error as AudioError, Plan};
use deft_needle_core::disk::put_copy;
use deft_needle_core::disk::{Disk, RealDisk};
use deft_needle_core::encoder::private_folder;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::run::refuse_existing;
use deft_needle_core::run::{Audience, Fitting, Notice, Side, open_written};
use deft_needle_core::sheet::{Accepted, Rule};
use deft_needle_core::target::Target;
use jobs::FitJob;
pub use jobs::spec_of_name;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// One clip, fitted or planned.
#[derive(Debug, JsonSchema, Serialize)]
pub struct FitLine {
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    clip: PathBuf,
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    out: PathBuf,
    plan: Plan,
    /// `None` where only planned.
    outcome: Option<Outcome>,
    /// Bits a second of what was written; `None` where only planned.
    bit_rate: Option<u64>,
    /// The clip and the file, where the level was changed.
    levels: Option<[Side; 2]>,
    /// What the user should know.
    notices: Vec<Notice>,
}

/// Fits every clip; one that fails is reported, and the rest goes on.
pub fn run(args: &Fit, console: &Console) -> Result<Exit, Failure> {
    refuse_terminal(&args.out)?;
    let mut clips = sounds(&args.clips)?;
    if args.clips.iter().any(|typed| typed.is_dir() && lies_in(&args.out, typed)) {
        // What an earlier run has made there is no clip.
        clips.retain(|clip| !lies_in(&clip.path, &args.out));
    }
    let into_folder = clips.len() > 1 || means_folder(&args.out);
    Progress::expect(console, clips.len(), if args.dry_run { 1 } else { 2 });
    if is_stream(&args.out) && (into_folder || console.json()) {
        return Err(Failure::usage(
            "standard output takes one clip, and no --json alongside it",
            "name a file or a folder with -o",
        ));
    }
    let target = args.wanted.target(&args.place.asked())?;
    if let Some(target) = &target {
        tell_unread(&target.slots, console);
    }
    let closed = target.as_ref().and_then(|target| closed(target, args));
    if args.outside.encoder.is_some() || closed.is_some() {
        return outside(&clips, args, closed, console);
    }
    let jobs = jobs::jobs(&clips, args, into_folder, target.as_ref())?;
    refuse_plot(args, &clips)?;
    let fitted = fit_all(jobs, args, console)?;
    let all = fitted.len();
    // An interruption is told once, below.
    let (stopped, ended): (Vec<_>, Vec<_>) = fitted
        .into_iter()
        .partition(|one| one.as_ref().is_err_and(|failure| failure.exit() == Exit::Interrupted));
    let (done, failed, mut exit) = sort_out(ended, console);
    if !stopped.is_empty() {
        exit = Exit::Interrupted;
    }
    for fitted in &done {
        report::report(fitted, console);
    }
    if exit == Exit::Interrupted {
        console.announce(format!(
            "interrupted: {} of {} written, the rest was not",
            done.len(),
            counted(all, "file")
        ));
    }
    if let (Some(plot), Some(first), false) = (&args.plot, done.first(), args.dry_run) {
        let clip = open_clip(&first.clip, &args.options.hints())?;
        super::draw::fitted(clip, open_written(&first.out, &first.plan)?, plot, console)?;
    }
    console.object(|| {
        let files = done.iter().map(object::FittedFile::Here).collect();
        object::Fitted { files, failed: &failed, dry_run: args.dry_run }
    });
    Ok(exit)
}

/// Fits every clip. Of two outputs that belong together both are written, or none.
fn fit_all(
    jobs: Vec<FitJob<'_>>,
    args: &Fit,
    console: &Console,
) -> Result<Vec<Result<FitLine, Failure>>, Failure> {
    let mut fresh: Vec<PathBuf> = Vec::new();
    if args.guide.is_some() {
        for job in &jobs {
            fit(job, args, true, console)?;
        }
        fresh.extend(jobs.iter().map(|job| job.out.clone()).filter(|out| !out.exists()));
    }
    let fit = |job: FitJob<'_>| {
        fit(&job, args, args.dry_run, console).map_err(|failure| failure.about(job.clip))
    };
    let fitted: Vec<_> = jobs.into_par_iter().map(fit).collect();
    if fitted.iter().any(Result::is_err) {
        for out in &fresh {
            let _ = RealDisk::default().remove(out);
        }
    }
    Ok(fitted)
}

/// A picture shows one clip, before and after.
fn refuse_plot(args: &Fit, clips: &[Sound]) -> Result<(), Failure> {
    let drawn = clips.len() == 1 && !is_stream(&clips[0].path) && !is_stream(&args.out);
    match args.plot.is_some() && !drawn {
        true => Err(Failure::usage(
            "--plot draws one clip, from a file to a file",
            "fit the clips one by one",
        )),
        false => Ok(()),
    }
}

/// The rule of a slot whose format is closed.
fn closed<'a>(target: &'a Target, args: &Fit) -> Option<&'a Rule> {
    let name = args.out.file_name().unwrap_or_default().to_string_lossy();
    let slot = args.slot.as_deref().unwrap_or(&name);
    let (_, aim) = target.aim(slot).ok()?;
    (*aim.rule.spec.get_ref() == Accepted::Opaque).then_some(aim.rule)
}

/// One clip through the encoder of a closed format.
fn outside(
    clips: &[Sound],
    args: &Fit,
    rule: Option<&Rule>,
    console: &Console,
) -> Result<Exit, Failure> {
    let ([clip], false, false) = (clips, is_stream(&args.out), means_folder(&args.out)) else {
        return Err(Failure::usage(
            "--encoder makes one file of one clip",
            "fit the clips one by one",
        ));
    };
    let typed = args.outside.encoder()?;
    let encoder =
        typed.or_else(|| rule?.encoder.clone()).ok_or(AudioError::CannotMeet(Unmet::Closed))?;
    encoder.refuse(args.outside.allow_commands)?;
    let clip = open_clip(&clip.path, &args.options.hints())?;
    refuse_existing(&[&clip], &args.out, args.overwrite)?;
    let (demand, edits) = (encoder.demand()?, &args.options.edits);
    let reference = Reference::default();
    let fitting = Fitting { clip: &clip, demand: &demand, edits, rule: None, reference };
    let progress = Progress::new(console, "planning", clip.facts().frames);
    let plan = fitting.plan(&progress)?;
    let name = safe(&clip.input().name().display().to_string());
    let object = |bytes: Option<u64>| {
        let (clip, out) = (text(clip.input().name()), text(&args.out));
        let files = vec![object::FittedFile::Outside { clip, out, feed: &plan, bytes }];
        object::Fitted { files, failed: &[], dry_run: args.dry_run }
    };
    if args.dry_run {
        console.say(format!("{}\n{}\n  then the command is run", paint(BOLD, name), words(&plan)));
        console.object(|| object(None));
        return Ok(Exit::Done);
    }
    let folder = private_folder()?;
    let made = folder.path().join("out");
    encoder.make(&fitting, &plan, &made, &Hints::default(), &progress)?;
    drop(progress);
    let disk = RealDisk::default();
    make_folder(&args.out, &disk)?;
    let bytes = put_copy(&made, &args.out, &disk)?;
    console.say(format!(
        "{} to {}\n  fed as {}; {bytes} bytes, {}",
        paint(BOLD, name),
        paint(BOLD, safe(&args.out.display().to_string())),
        plan.to.format,
        paint(GOOD, "made by the command")
    ));
    console.object(|| object(Some(bytes)));
    Ok(Exit::Done)
}

fn fit(job: &FitJob<'_>, args: &Fit, dry_run: bool, console: &Console) -> Result<FitLine, Failure> {
    let out = job.out.as_path();
    let loop_tags = job.demand.loop_tags.clone();
    let hints = Hints { loop_tags, ..job.request.hints() };
    let clip = open_clip(job.clip, &hints)?;
    let listed = job.aim.and_then(|aim| aim.listed).and_then(Side::listed);
    let lufs = listed.as_ref().and_then(|listed| listed.lufs);
    let mut notices = job.notices.clone();
    let request = match &job.aim {
        Some(aim) => {
            let (request, more) = aim.ask(&job.request, clip.facts(), lufs.is_some());
            notices.extend(more);
            request
        }
        None => job.request.clone(),
    };
    let surveys = Surveys::default();
    let fitting = Fitting {
        clip: &clip,
        demand: &job.demand,
        edits: &request.edits,
        rule: job.aim.map(|aim| aim.rule),
        reference: Reference { lufs, surveys: Some(&surveys), ..Reference::default() },
    };
    let progress = Progress::new(console, "planning", clip.facts().frames);
    let plan = fitting.plan(&progress)?;
    let aimed = job.aim.as_ref();
    notices.extend(aimed.and_then(|aim| Notice::of_format(aim, &job.request, plan.to.format)));
    drop(progress);
    let mut fitted = FitLine {
        clip: clip.input().name().to_owned(),
        out: out.to_owned(),
        plan,
        outcome: None,
        bit_rate: None,
        levels: None,
        notices,
    };
    if dry_run {
        if !is_stream(out) {
            refuse_existing(&[&clip], out, args.overwrite)?;
        }
        return Ok(fitted);
    }
    write(&fitting, &mut fitted, listed.as_ref(), args, console)?;
    Ok(fitted)
}

/// Writes what was planned; for standard output into a private file, which is sent once it is proved.
fn write(
    fitting: &Fitting<'_>,
    fitted: &mut FitLine,
    stock: Option<&Side>,
    args: &Fit,
    console: &Console,
) -> Result<(), Failure> {
    let (plan, disk) = (&fitted.plan, RealDisk::default());
    let progress = Progress::new(console, "fitting", plan.to.frames);
    let private = is_stream(&fitted.out).then(private_folder).transpose()?;
    let path = match &private {
        Some(folder) => folder.path().join("out"),
        None => fitted.out.clone(),
    };
    let shown = changes_level(plan) && private.is_none();
    let audience: Option<&dyn Audience> = match stock.is_some() || shown {
        true => Some(&()),
        false => None,
    };
    let written = match &private {
        Some(_) => fitting.write(plan, &path, audience, &disk, &progress)?,
        None => {
            make_folder(&path, &disk)?;
            fitting.put(plan, &path, args.overwrite, audience, &disk, &progress)?
        }
    };
    let file = open_written(&path, plan)?;
    let after = written.survey.map(|survey| Side::measured(&file, survey));
    let sides = [stock, after.as_ref()];
    fitted.notices.extend(fitting.judge(plan, &file, &written.outcome, sides)?);
    if let (Some(after), true) = (after, shown) {
        fitted.levels = Some([fitting.before(plan, &after, &progress)?, after]);
    }
    fitted.bit_rate = Some(written.facts.bit_rate());
    fitted.outcome = Some(written.outcome);
    if private.is_some() {
        let sent = std::fs::File::open(&path).and_then(|bytes| console.bytes(bytes));
        sent.map_err(CoreError::write("write to", Path::new("standard output")))?;
    }
    Ok(())
}

fn changes_level(plan: &Plan) -> bool {
    let changes = |step: &Step| matches!(step, Step::Gain { .. } | Step::Limit { .. });
    plan.steps().iter().any(changes)
}

/// Whether a path lies below a folder.
fn lies_in(path: &Path, folder: &Path) -> bool {
    let [path, folder] = [path, folder].map(std::path::absolute);
    matches!((path, folder), (Ok(path), Ok(folder)) if path != folder && path.starts_with(&folder))
}

/// Makes the folder of an output, and those above it.
pub fn make_folder(out: &Path, disk: &dyn Disk) -> Result<(), Failure> {
    let above: Vec<&Path> = out.ancestors().skip(1).take_while(|folder| !folder.is_dir()).collect();
    for folder in above.into_iter().rev().filter(|folder| !folder.as_os_str().is_empty()) {
        match disk.create_folder(folder) {
            Err(error) if !folder.is_dir() => {
                return Err(CoreError::write("make", folder)(error).into());
            }
            _ => {}
        }
    }
    Ok(())
}
