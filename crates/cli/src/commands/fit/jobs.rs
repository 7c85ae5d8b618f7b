//! Which clip goes where, and what the file there must be.

use crate::args::{Fit, SpecArgs};
use crate::failure::Failure;
use crate::paths::{Sound, extension, is_stream};
use deft_needle_audio::Spec;
use deft_needle_audio::edit::Request;
use deft_needle_audio::shape::separate::Keep;
use deft_needle_audio::spec::{Choice, Container, Demand};
use deft_needle_core::names::Taken;
use deft_needle_core::refusal::OddSlot;
use deft_needle_core::run::Notice;
use deft_needle_core::sheet::Rule;
use deft_needle_core::target::{Aim, Target, name_faults};
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// One clip on its way to one file.
pub struct FitJob<'a> {
    /// The clip.
    pub clip: &'a Path,
    /// The file, or `-`.
    pub out: PathBuf,
    /// What is asked of it.
    pub request: Request,
    /// What the file must be.
    pub demand: Demand,
    /// The slot that it is for, where a sheet tells.
    pub aim: Option<Aim<'a>>,
    /// What the user should know.
    pub notices: Vec<Notice>,
}

/// All that is to be done.
pub fn jobs<'a>(
    clips: &'a [Sound],
    args: &Fit,
    into_folder: bool,
    target: Option<&'a Target>,
) -> Result<Vec<FitJob<'a>>, Failure> {
    let model = args.wanted.model()?;
    let named = args.wanted.names_a_spec(&args.options);
    let typed = args.wanted.demand(&args.options)?.filter(|_| named);
    let mut taken: HashMap<PathBuf, &Path> = HashMap::new();
    let mut jobs = Vec::new();
    for Sound { path: clip, within } in clips {
        if into_folder && is_stream(clip) {
            return Err(Failure::usage(
                "standard input has no name to use in a folder",
                "name the output file with -o",
            ));
        }
        let aimed = target.map(|target| aim(target, clip, args, into_folder)).transpose()?;
        let (slot, aim) = aimed.unzip();
        let (demand, notices) = match (&typed, aim) {
            (_, Some(aim)) => aim.demand(&args.options, model.as_ref())?,
            (Some(typed), None) => (typed.clone(), Vec::new()),
            (None, None) => (by_extension(args, into_folder)?, Vec::new()),
        };
        let out = match (into_folder, slot) {
            (false, _) => args.out.clone(),
            (true, Some(slot)) => {
                args.out.join(within).join(slot.rsplit('/').next().unwrap_or(&slot))
            }
            (true, None) => args.out.join(within).join(file_name(clip, &args.wanted, &demand)),
        };
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
        refuse_name(args, &out)?;
        let request = args.options.clone();
        jobs.push(FitJob { clip, out, request, demand, aim, notices });
    }
    match &args.guide {
        Some(guide) => with_guide(jobs, guide),
        None => Ok(jobs),
    }
}

/// The slot that a clip is for: the one that was named, else the output's own name.
fn aim<'a>(
    target: &'a Target,
    clip: &Path,
    args: &Fit,
    into_folder: bool,
) -> Result<(String, Aim<'a>), Failure> {
    let of = |path: &Path| path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let slot = match (&args.slot, into_folder) {
        (Some(slot), _) => slot.clone(),
        (None, false) => of(&args.out),
        (None, true) => {
            let name = of(clip);
            let extensions = target.sheet.rule_for(&name).map_or_else(Vec::new, Rule::extensions);
            let kept = extensions.iter().any(|e| e.eq_ignore_ascii_case(&extension(clip)));
            match extensions.first().filter(|_| !kept) {
                Some(extension) => of(&Path::new(&name).with_extension(extension)),
                None => name,
            }
        }
    };
    Ok(target.aim(&slot)?)
}

/// Where only a name is asked for, a wrong one is refused before any work.
fn refuse_name(args: &Fit, out: &Path) -> Result<(), Failure> {
    let Some(rules) = args.naming.rules().filter(|_| !is_stream(out)) else {
        return Ok(());
    };
    let name = out.file_name().unwrap_or_default().to_string_lossy();
    let (faults, right) = name_faults(&name, &rules, &[], &Taken::default());
    match faults.into_iter().next() {
        None => Ok(()),
        Some(odd) => Err(OddSlot::BadName { odd, right }.of(name).into()),
    }
}

/// Without a spec, the output's extension names the container and the rest stays.
fn by_extension(args: &Fit, into_folder: bool) -> Result<Demand, Failure> {
    let Some(spec) = spec_of_name(&args.out).filter(|_| !into_folder) else {
        return Err(Failure::usage(
            format!("nothing says what {} must be", args.out.display()),
            "say it with --spec \"wav pcm16 24000 mono\", --like FILE or --target SHEET",
        ));
    };
    Ok(args.options.demand(spec.into())?)
}

/// The container that a name's extension tells, and the rest as it is.
pub fn spec_of_name(out: &Path) -> Option<Spec> {
    let container = Container::from_extension(&extension(out))?;
    Some(Spec { container: Choice::OneOf(vec![container]), ..Spec::ANY })
}

/// The clip's stem with the extension of what it becomes.
fn file_name(clip: &Path, wanted: &SpecArgs, demand: &Demand) -> PathBuf {
    let of_model = wanted.like.as_deref().map(extension);
    let of_spec = match &demand.specs[0].container {
        Choice::OneOf(containers) => containers.first().copied(),
        Choice::Any => None,
    };
    let name = match (&of_model, of_spec) {
        (Some(extension), _) if !extension.is_empty() => extension.clone(),
        (_, Some(container)) => container.facts().extensions[0].to_owned(),
        _ => extension(clip),
    };
    let mut file = clip.file_stem().unwrap_or_default().to_owned();
    file.push(format!(".{name}"));
    file.into()
}

/// The full clip to its output, and what `--keep` keeps to another one.
fn with_guide<'a>(mut jobs: Vec<FitJob<'a>>, guide: &Path) -> Result<Vec<FitJob<'a>>, Failure> {
    let (Some(full), true) = (jobs.pop(), jobs.is_empty()) else {
        return Err(Failure::usage("--guide goes with one clip", "fit the clips one by one"));
    };
    if full.out == guide || is_stream(guide) || is_stream(full.clip) {
        return Err(Failure::usage(
            "the guide needs a file of its own, and a clip that is a file",
            "name another file with --guide",
        ));
    }
    let with = |keep, out: PathBuf| FitJob {
        out,
        request: with_keep(&full.request, keep),
        demand: full.demand.clone(),
        notices: full.notices.clone(),
        ..full
    };
    let keep = full.request.edits.keep.or(Some(Keep::Shared));
    Ok(vec![with(None, full.out.clone()), with(keep, guide.to_owned())])
}

fn with_keep(request: &Request, keep: Option<Keep>) -> Request {
    let mut request = request.clone();
    request.edits.guide = keep.is_some();
    request.edits.keep = keep;
    request
}
