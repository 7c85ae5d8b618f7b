//! Clips to files that meet a spec.

use super::{level, loudness};
use crate::args::Fit;
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::{expand, extension, is_stream, means_folder, open_clip};
use crate::progress::Progress;
use deft_needle_audio::plan::{Reference, Step, Work, plan_clip};
use deft_needle_audio::read::Hints;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::shape::separate::Keep;
use deft_needle_audio::spec::{Choice, Container, Demand, Kind};
use deft_needle_audio::survey::{Ask, Survey, survey};
use deft_needle_audio::units::Duration;
use deft_needle_audio::{Clip, Edits, Plan, Spec};
use deft_needle_core::disk::{Disk, RealDisk};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::fit::{Durable, fit_to_file, refuse_existing, write_verified};
use deft_needle_core::install::Warning;
use rayon::prelude::*;
use serde::Serialize;
use serde_json::json;
use std::collections::HashMap;
use std::fmt::Write;
use std::path::{Path, PathBuf};

/// One clip, fitted or planned.
#[derive(Debug, Serialize)]
struct Fitted {
    clip: PathBuf,
    out: PathBuf,
    plan: Plan,
    /// `None` where only planned.
    outcome: Option<Outcome>,
    /// Bits a second of what was written; `None` where only planned.
    bit_rate: Option<u64>,
    /// The clip and the file, where the level was changed.
    levels: Option<[Survey; 2]>,
}

/// Fits every clip; one that fails is reported, and the rest goes on.
pub fn run(args: &Fit, console: &Console) -> Result<Exit, Failure> {
    let clips = expand(&args.clips)?;
    let into_folder = clips.len() > 1 || means_folder(&args.out);
    if is_stream(&args.out) && (into_folder || console.json()) {
        return Err(Failure::usage(
            "standard output takes one clip, and no --json beside it",
            "name a file or a folder with -o",
        ));
    }
    if args.outside.encoder.is_some() {
        return outside(&clips, args, console);
    }
    let demand = match args.wanted.demand()? {
        Some(demand) if args.wanted.names_a_spec() => demand,
        _ => by_extension(args, into_folder)?,
    };
    let outs = outputs(&clips, args, into_folder, &demand)?;
    if args.plot.is_some() && (outs.len() > 1 || is_stream(&clips[0]) || is_stream(&args.out)) {
        return Err(Failure::usage(
            "--plot draws one clip, from a file to a file",
            "fit the clips one by one",
        ));
    }
    let jobs = jobs(&clips, outs, args)?;
    let fitted: Vec<_> = jobs
        .into_par_iter()
        .map(|job| fit(&job, args, &demand, console))
        .collect();
    let mut exit = Exit::Done;
    let mut done = Vec::new();
    for one in fitted {
        match one {
            Ok(fitted) => done.push(fitted),
            Err(failure) => {
                exit = exit.worst(failure.exit());
                console.failure(&failure);
            }
        }
    }
    for fitted in &done {
        report(fitted, console);
    }
    if let (Some(plot), Some(first), false) = (&args.plot, done.first(), args.dry_run) {
        let clip = open_clip(&first.clip, &args.reading.hints())?;
        super::draw::fitted(clip, written_clip(&first.out, &first.plan)?, plot, console)?;
    }
    console.object(&json!({ "files": done, "dry_run": args.dry_run }));
    Ok(exit)
}

/// One clip through the command of a closed format.
fn outside(clips: &[PathBuf], args: &Fit, console: &Console) -> Result<Exit, Failure> {
    let ([clip], false, false) = (clips, is_stream(&args.out), means_folder(&args.out)) else {
        return Err(Failure::usage(
            "--encoder makes one file of one clip",
            "fit the clips one by one",
        ));
    };
    let clip = open_clip(clip, &args.reading.hints())?;
    let edits = args.shaping.edits();
    let disk = RealDisk::default();
    let name = safe(&clip.input().name().display().to_string());
    if args.dry_run {
        refuse_existing(&[&clip], &args.out, args.overwrite)?;
        let plan = args.outside.plan(&clip, &edits, console)?;
        if let Some(plan) = &plan {
            console.say(format!(
                "{}\n{plan}\n  then the command is run",
                paint(BOLD, name)
            ));
        }
        console.object(&json!({
            "files": [{ "clip": clip.input().name(), "out": args.out, "feed": plan }],
            "dry_run": true,
        }));
        return Ok(Exit::Done);
    }
    let Some(made) = args.outside.make(&clip, &edits, console)? else {
        return Ok(Exit::Done);
    };
    make_folder(&args.out, &disk)?;
    let bytes = made.put(&clip, &args.out, args.overwrite, &disk)?;
    console.say(format!(
        "{} to {}\n  fed as {}; {} bytes, {}",
        paint(BOLD, name),
        paint(BOLD, safe(&args.out.display().to_string())),
        made.plan.to.format,
        bytes,
        paint(GOOD, "made by the command")
    ));
    console.object(&json!({
        "files": [{ "clip": clip.input().name(), "out": args.out, "feed": made.plan, "bytes": bytes }],
        "dry_run": false,
    }));
    Ok(Exit::Done)
}

/// Without a spec, the output's extension names the container and the rest stays.
fn by_extension(args: &Fit, into_folder: bool) -> Result<Demand, Failure> {
    let extension = extension(&args.out);
    let container = match Container::from_extension(&extension) {
        Some(container) if !into_folder => container,
        _ => {
            return Err(Failure::usage(
                format!("nothing says what {} must be", args.out.display()),
                "say it with --spec \"wav pcm16 24000 mono\" or --like FILE",
            ));
        }
    };
    let spec = Spec {
        container: Choice::OneOf(vec![container]),
        ..Spec::ANY
    };
    let mut demand = Demand::from(spec);
    args.wanted.adjust(&mut demand);
    demand.validate()?;
    Ok(demand)
}

/// Where each clip goes: all to OUT, or each to OUT/ under its own stem.
fn outputs(
    clips: &[PathBuf],
    args: &Fit,
    into_folder: bool,
    demand: &Demand,
) -> Result<Vec<PathBuf>, Failure> {
    if !into_folder {
        return Ok(vec![args.out.clone()]);
    }
    let of_model = args.wanted.like.as_deref().map(extension);
    let of_spec = match &demand.specs[0].container {
        Choice::OneOf(containers) => containers.first().copied(),
        Choice::Any => None,
    };
    let mut taken: HashMap<PathBuf, &Path> = HashMap::new();
    let mut outs = Vec::new();
    for clip in clips {
        if is_stream(clip) {
            return Err(Failure::usage(
                "standard input has no name to use in a folder",
                "name the output file with -o",
            ));
        }
        let name = match (&of_model, of_spec) {
            (Some(extension), _) if !extension.is_empty() => extension.clone(),
            (_, Some(container)) => container.facts().extensions[0].to_owned(),
            _ => extension(clip),
        };
        let mut file = clip.file_stem().unwrap_or_default().to_owned();
        file.push(format!(".{name}"));
        let out = args.out.join(file);
        if let Some(other) = taken.insert(out.clone(), clip) {
            return Err(Failure::usage(
                format!(
                    "{} and {} would both become {}",
                    other.display(),
                    clip.display(),
                    out.display()
                ),
                "fit them one by one under different names",
            ));
        }
        outs.push(out);
    }
    Ok(outs)
}

/// One clip on its way to one file.
struct Job<'a> {
    clip: &'a Path,
    out: PathBuf,
    edits: Edits,
}

/// A clip goes to its output, and with `--guide` what it keeps to another one.
fn jobs<'a>(clips: &'a [PathBuf], outs: Vec<PathBuf>, args: &Fit) -> Result<Vec<Job<'a>>, Failure> {
    let edits = args.shaping.edits();
    let job = |clip: &'a PathBuf, out: PathBuf, keep| Job {
        clip,
        out,
        edits: Edits {
            keep,
            ..edits.clone()
        },
    };
    let Some(guide) = &args.guide else {
        let pairs = clips.iter().zip(outs);
        return Ok(pairs
            .map(|(clip, out)| job(clip, out, edits.keep))
            .collect());
    };
    let ([clip], [out]) = (clips, outs.as_slice()) else {
        return Err(Failure::usage(
            "--guide goes with one clip",
            "fit the clips one by one",
        ));
    };
    if out == guide || is_stream(guide) || is_stream(clip) {
        return Err(Failure::usage(
            "the guide needs a file of its own, and a clip that is a file",
            "name another file with --guide",
        ));
    }
    let keep = edits.keep.or(Some(Keep::Shared));
    Ok(vec![
        job(clip, out.clone(), None),
        job(clip, guide.clone(), keep),
    ])
}

fn fit(job: &Job<'_>, args: &Fit, demand: &Demand, console: &Console) -> Result<Fitted, Failure> {
    let out = job.out.as_path();
    let clip = open_clip(job.clip, &args.reading.hints())?;
    let progress = Progress::new(console, clip.facts().frames);
    let plan = plan_clip(&clip, demand, &job.edits, Reference::default(), &progress)?;
    let fitted = |outcome, bit_rate, levels| Fitted {
        clip: clip.input().name().to_owned(),
        out: out.to_owned(),
        plan: plan.clone(),
        outcome,
        bit_rate,
        levels,
    };
    let disk = RealDisk::default();
    if args.dry_run {
        if !is_stream(out) {
            refuse_existing(&[&clip], out, args.overwrite)?;
        }
        return Ok(fitted(None, None, None));
    }
    drop(progress);
    let progress = Progress::new(console, plan.to.frames);
    let written = if is_stream(out) {
        to_standard_output(&clip, &plan, &disk, &progress, console)?
    } else {
        make_folder(out, &disk)?;
        fit_to_file(&clip, &plan, out, args.overwrite, &disk, &progress)?
    };
    let levels = match changes_level(&plan) && !is_stream(out) {
        true => Some([
            survey(&clip, Ask::ALL, &progress)?,
            survey(&written_clip(out, &plan)?, Ask::ALL, &progress)?,
        ]),
        false => None,
    };
    let bit_rate = written.facts.bit_rate();
    Ok(fitted(Some(written.outcome), Some(bit_rate), levels))
}

/// Opens what was written, told what its content cannot tell.
fn written_clip(out: &Path, plan: &Plan) -> Result<Clip, Failure> {
    let hints = Hints {
        raw: (plan.to.format.container == Container::Raw).then_some(plan.to.format),
        loop_tags: Some(plan.to.loop_tags.clone()),
    };
    open_clip(out, &hints)
}

fn changes_level(plan: &Plan) -> bool {
    let changes = |step: &Step| matches!(step, Step::Gain { .. } | Step::Limit { .. });
    plan.steps().iter().any(changes)
}

/// Writes to a private file, and sends it once it is verified.
fn to_standard_output(
    clip: &Clip,
    plan: &Plan,
    disk: &RealDisk,
    progress: &Progress,
    console: &Console,
) -> Result<deft_needle_core::fit::Written, Failure> {
    let folder = tempfile::tempdir().map_err(CoreError::write("make", &std::env::temp_dir()))?;
    let file = folder.path().join("out");
    let written = write_verified(clip, plan, &file, Durable::No, disk, progress)?;
    let sent = std::fs::File::open(&file).and_then(|bytes| console.bytes(bytes));
    sent.map_err(CoreError::write("write to", Path::new("standard output")))?;
    Ok(written)
}

/// Makes the folder of an output, but not the folders above it: they would be typing mistakes.
pub fn make_folder(out: &Path, disk: &dyn Disk) -> Result<(), Failure> {
    let Some(folder) = out.parent().filter(|f| !f.as_os_str().is_empty()) else {
        return Ok(());
    };
    match disk.create_folder(folder) {
        Err(error) if !folder.is_dir() => Err(CoreError::write("make", folder)(error).into()),
        _ => Ok(()),
    }
}

fn report(fitted: &Fitted, console: &Console) {
    let Fitted {
        clip,
        out,
        plan,
        outcome,
        bit_rate,
        levels,
    } = fitted;
    let names = [clip, out].map(|path| safe(&path.display().to_string()));
    let to_stream = is_stream(out);
    if !to_stream {
        if let Some(named) = odd_name(out, plan.to.format.container) {
            console.warn(named);
        }
        console.say(described(
            plan,
            &names,
            *bit_rate,
            outcome.is_none() || console.verbose(),
        ));
    }
    if let Some(levels) = levels {
        for (name, found) in ["before", "after"].iter().zip(levels) {
            console.say(format!(
                "  {name:<8}  peak {}, true peak {}, loudness {}",
                level(found.peak_dbfs, "dBFS"),
                level(found.true_peak_dbtp, "dBTP"),
                loudness(found.loudness)
            ));
        }
    }
    let Some(outcome) = outcome else { return };
    for warning in Warning::of_outcome(outcome, plan.to.format.rate) {
        console.warn(format!("{}: {warning}", names[0]));
    }
}

fn odd_name(out: &Path, is: Container) -> Option<String> {
    let extension = extension(out);
    let claimed = Container::from_extension(&extension)?;
    let wrong = claimed != is && !is.facts().has_extension(&extension);
    wrong.then(|| {
        let out = safe(&out.display().to_string());
        format!("{out} is named .{extension} but will be {is}, as the spec says")
    })
}

/// The plan in full, or in one line.
fn described(
    plan: &Plan,
    [clip, out]: &[String; 2],
    bit_rate: Option<u64>,
    in_full: bool,
) -> String {
    let mut text = format!("{} to {}", paint(BOLD, clip), paint(BOLD, out));
    if in_full {
        let _ = write!(text, "\n{plan}");
        if let Some(rate) = real_rate(plan, bit_rate) {
            let _ = write!(text, "\n  came out at {rate}");
        }
        return text;
    }
    let how = match &plan.work {
        Work::Nothing => "kept byte for byte: it meets the spec already",
        Work::Rewrap => "samples copied bit for bit, header written anew",
        Work::Render(_) => "converted and verified",
    };
    let length = Duration(plan.to.seconds());
    let _ = write!(
        text,
        "\n  {}, {length}; {}",
        plan.to.format,
        paint(GOOD, how)
    );
    if let Some(rate) = real_rate(plan, bit_rate) {
        let _ = write!(text, ", {rate}");
    }
    text
}

/// What a lossy encoding really takes: a quality says nothing of it, and a bit rate is only aimed at.
fn real_rate(plan: &Plan, bit_rate: Option<u64>) -> Option<String> {
    let codec = plan.to.format.encoding.codec;
    let varies = codec.kind() == Kind::Lossy && codec.facts().decoded_bits.is_none();
    let rate = bit_rate.filter(|_| varies && matches!(plan.work, Work::Render(_)))?;
    Some(format!(
        "{:.0} kbit/s",
        deft_needle_audio::num::real(rate) / 1000.0
    ))
}
