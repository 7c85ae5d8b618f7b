//! A job sheet to start from.

use crate::args::New;
use crate::commands::{counted, tell_unread};
use crate::console::{BOLD, Console, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use deft_needle_audio::Clip;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::disk::put_bytes;
use deft_needle_core::job::matching::Take;
use deft_needle_core::job::start::from_clips;
use deft_needle_core::refusal::OddPath;
use deft_needle_core::root::Roots;
use deft_needle_core::run::refuse_existing;
use deft_needle_core::sheet::Sheet;
use deft_needle_core::target::Target;
use deft_needle_core::tree::files_below;
use rayon::prelude::*;
use std::path::{Path, PathBuf};

/// Writes it, or prints it.
pub fn run(args: &New, console: &Console) -> Result<Exit, Failure> {
    let sheet = Sheet::find(&args.sheet)?;
    let target = Target::new(sheet, args.place.asked().roots())?;
    tell_unread(&target.slots, console);
    if !args.clips.is_dir() {
        return Err(OddPath::NotFolder.of(&args.clips).into());
    }
    let files = files_below(&args.clips)?;
    let sounds: Vec<PathBuf> =
        files.into_par_iter().filter(|file| Clip::open(file).is_ok()).collect();
    let folder = args.out.parent().unwrap_or(Path::new(""));
    let take = |file: &PathBuf| {
        let within = file.strip_prefix(&args.clips).unwrap_or(file);
        let within = within.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/");
        Take { within, written: written(file, folder) }
    };
    let takes: Vec<Take> = sounds.iter().map(take).collect();
    let beside = match args.sheet.exists() {
        true => PathBuf::from(written(&args.sheet, folder)),
        false => args.sheet.clone(),
    };
    let beside_job = |root: &PathBuf| PathBuf::from(written(root, folder));
    let others = target.roots.others.iter();
    let roots = Roots {
        main: target.roots.main.as_ref().map(beside_job),
        others: others.map(|(name, root)| (name.clone(), beside_job(root))).collect(),
    };
    let started = from_clips(&target, &beside, &roots, &takes);
    if args.dry_run {
        console.find(&started.text);
    } else {
        refuse_existing(&[], &args.out, args.overwrite)?;
        put_bytes(&args.out, started.text.as_bytes(), &RealDisk::default())?;
        console.say(format!(
            "{}: {} matched by name, {} left as comments",
            paint(BOLD, safe(&args.out.display().to_string())),
            counted(started.matched, "clip"),
            started.unmatched
        ));
        console.say(format!(
            "  look through it, then: deft-needle check {}",
            safe(&args.out.display().to_string())
        ));
    }
    console.object(|| object::NewJob {
        out: text(&args.out),
        text: &started.text,
        matched: started.matched,
        unmatched: started.unmatched,
        dry_run: args.dry_run,
    });
    Ok(Exit::Done)
}

/// A path as it is written in a sheet in `folder`: relative where both are, with `/` between folders.
pub fn written(path: &Path, folder: &Path) -> String {
    let plain = |path: &Path| path.to_string_lossy().replace('\\', "/");
    if path.is_absolute() {
        return path.to_string_lossy().into_owned();
    }
    if let (false, Ok(below)) = (folder.as_os_str().is_empty(), path.strip_prefix(folder)) {
        return plain(below);
    }
    let up = folder.components().count();
    let is_plain = folder.is_relative() && !folder.to_string_lossy().contains("..");
    match (up, is_plain) {
        (0, _) => plain(path),
        (up, true) => "../".repeat(up) + &plain(path),
        (_, false) => std::path::absolute(path)
            .map_or_else(|_| plain(path), |p| p.to_string_lossy().into_owned()),
    }
}
