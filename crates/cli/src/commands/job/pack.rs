//! A job as something to share.

use crate::args::Pack;
use crate::commands::{counted, notice};
use crate::console::{BOLD, Console, GOOD, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::report::notice::words;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::run::{Ask, Run};
use deft_needle_core::sheet::Size;

/// Packs, and says what is in it.
pub fn run(args: &Pack, console: &Console) -> Result<Exit, Failure> {
    let progress = Progress::new(console, "packing", 0);
    let ask = Ask { allow_commands: args.allow_commands, ..Ask::default() };
    let mut run = Run::without_root(&args.job, ask, &progress)?;
    let wanted = run.target.sheet.pack.as_ref().and_then(|pack| pack.extension.clone());
    let typed = crate::paths::extension(&args.out);
    if let Some(wanted) = wanted.filter(|wanted| !wanted.eq_ignore_ascii_case(&typed)) {
        console.warn(format!("packs for {} end in .{wanted}", safe(&run.target.sheet.name)));
    }
    let report =
        run.pack(&args.out, args.overwrite, args.dry_run, &RealDisk::default(), &progress)?;
    drop(progress);
    console.say(format!(
        "{} {}: {}, {}, {}",
        paint(BOLD, safe(&report.out.display().to_string())),
        match args.dry_run {
            true => paint(GOOD, "would be packed"),
            false => paint(GOOD, "packed and read back"),
        },
        counted(report.slots, "slot"),
        counted(report.members.len(), "file"),
        if args.dry_run {
            format!("about {}", Size(report.bytes))
        } else {
            Size(report.bytes).to_string()
        }
    ));
    report.members.iter().for_each(|member| console.say(format!("  {}", safe(member))));
    report.notices.iter().for_each(|found| console.say(notice(&safe(&words(found)))));
    console.object(|| &report);
    Ok(Exit::Done)
}
