//! The command line of Deft Needle.
#![cfg_attr(test, allow(clippy::as_conversions))]

mod args;
mod commands;
mod console;
mod exit;
mod failure;
mod paths;
mod plot;
mod progress;
mod report;
mod table;

use args::Command;
use console::Console;
use exit::Exit;
use failure::Failure;
use std::process::ExitCode;
use tracing_subscriber::EnvFilter;

/// What the licences of the codecs inside ask to be shown.
const NOTICES: &str = concat!(
    "deft-needle ",
    env!("CARGO_PKG_VERSION"),
    "\n\n",
    include_str!("../../../docs/notices.txt"),
    "\n",
    include_str!("../../../docs/licences/fdk-aac.txt")
);

fn main() -> ExitCode {
    std::panic::set_hook(Box::new(failure::apologise));
    let typed: Vec<_> = std::env::args_os().collect();
    if args::asks_for_notices(&typed) {
        let console = Console::new(&args::Common::default());
        console.find(NOTICES);
        return console.finish().into();
    }
    let cli = args::read(args::with_default_command(typed.into_iter()));
    let console = Console::new(&cli.common);
    trace(cli.common.verbose);
    if cli.common.threads > 0 {
        // Fails only where the pool exists already, which it does not yet.
        let _ = rayon::ThreadPoolBuilder::new().num_threads(cli.common.threads).build_global();
    }
    progress::watch_for_interrupt();
    let done = run(&cli.command, &console);
    let exit = done.unwrap_or_else(|failure| {
        console.failure(&failure);
        console.object(|| {
            serde_json::json!({
                "error": failure.as_object(), "exit": failure.exit().code(),
            })
        });
        failure.exit()
    });
    console.finish().worst(exit).into()
}

/// Shows events on standard error: those of ours with `-vv`, or what `RUST_LOG` asks for.
fn trace(verbose: u8) {
    let asked = EnvFilter::try_from_default_env().ok();
    let ours = (verbose > 1).then(|| {
        EnvFilter::new("deft_needle=debug,deft_needle_audio=debug,deft_needle_core=debug")
    });
    if let Some(filter) = asked.or(ours) {
        let events = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
        events.without_time().with_ansi(false).init();
    }
}

fn run(command: &Command, console: &Console) -> Result<Exit, Failure> {
    match command {
        Command::Inspect(args) => commands::inspect::run(args, console),
        Command::Hear(args) => commands::hear::run(args, console),
        Command::Fit(args) => commands::fit::run(args, console),
        Command::Check(args) => commands::check::run(args, console),
        Command::Swap(args) => commands::swap::run(args, console),
        Command::Status(args) => commands::status::run(args, console),
        Command::Restore(args) => commands::restore::run(args, console),
        Command::Rescue(args) => commands::rescue::run(args, console),
        Command::Seam(args) => commands::seam::run(args, console),
        Command::Learn(args) => commands::learn::run(args, console),
        Command::Slots(args) => commands::slots::run(args, console),
        Command::Sheets(args) => commands::sheets::run(args, console),
        Command::New(args) => commands::job::start::run(args, console),
        Command::Install(args) => commands::job::install::run(args, console),
        Command::Watch(args) => commands::job::watch::run(args, console),
        Command::Pack(args) => commands::job::pack::run(args, console),
        #[cfg(feature = "demo")]
        Command::Demo(args) => commands::demo::run(args, console),
        #[cfg(feature = "demo")]
        Command::StandIn(program) => Ok(program.run().map(|()| Exit::Done)?),
    }
}
