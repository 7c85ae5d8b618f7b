//! The command line of Deft Needle.
#![cfg_attr(test, allow(clippy::as_conversions))]

mod args;
mod commands;
mod console;
mod exit;
mod failure;
mod object;
mod paths;
mod plot;
mod progress;
mod report;
mod settings;
mod table;

use args::{Color, Command, Common, Typed};
use clap_complete::CompleteEnv;
use console::Console;
use deft_needle_core::root::keep_ledgers_of_drives_in;
use deft_needle_core::sheet::keep_own_sheets_in;
use exit::Exit;
use failure::Failure;
use settings::Settings;
use std::process::ExitCode;
use tracing_subscriber::EnvFilter;

/// What the licences of the codecs inside ask to be shown.
const NOTICES: &str = concat!(
    "deft-needle ",
    env!("CARGO_PKG_VERSION"),
    "\n\n",
    include_str!("../notices/notices.txt"),
    "\n",
    include_str!("../notices/fdk-aac.txt")
);

fn main() -> ExitCode {
    std::panic::set_hook(Box::new(failure::apologise));
    let settings = Settings::read();
    if let Ok(settings) = &settings {
        settings.sheets.as_deref().map(keep_own_sheets_in);
        settings.drive_ledgers.as_deref().map(keep_ledgers_of_drives_in);
    }
    // A shell that asks for completions is answered here, and nothing else is done.
    CompleteEnv::with_factory(|| args::command(Color::Never)).complete();
    let typed: Vec<_> = std::env::args_os().collect();
    let typed = args::with_default_command(typed.into_iter());
    let common = Common::glanced(&typed);
    let console = Console::new(&common, settings.as_ref().unwrap_or(&Settings::usual()));
    if args::asks_for_notices(&typed) {
        console.find(NOTICES);
        return console.finish().into();
    }
    let cli = match args::read(&typed) {
        Typed::Command(cli) => cli,
        Typed::Shown(text) => {
            // A reader that has seen enough is no error.
            let _ = text.print();
            return ExitCode::SUCCESS;
        }
        Typed::Version => {
            console.object(|| object::Version { program: "deft-needle" });
            return console.finish().into();
        }
        Typed::Wrong(failure) => return ended(&console, &failure).into(),
    };
    let settings = match settings {
        Ok(settings) => settings,
        Err(failure) => return ended(&console, &failure).into(),
    };
    let console = Console::new(&cli.common, &settings);
    trace(cli.common.verbose);
    let threads = cli.common.threads.unwrap_or(settings.threads);
    if threads > 0 {
        // More than a machine could have use for would only take its memory.
        let threads = threads.min(settings::MOST_THREADS);
        // Fails only where the pool exists already, which it does not yet.
        let _ = rayon::ThreadPoolBuilder::new().num_threads(threads).build_global();
    }
    progress::watch_for_interrupt();
    let done = run(&cli.command, &console);
    let exit = done.unwrap_or_else(|failure| ended(&console, &failure));
    console.finish().worst(exit).into()
}

/// Reports what ended the program.
fn ended(console: &Console, failure: &Failure) -> Exit {
    console.failure(failure);
    console.object(|| object::Failed { error: failure, exit: failure.exit().code() });
    failure.exit()
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
        Command::Proof(args) => commands::proof::run(args, console),
        Command::Doctor(args) => commands::doctor::run(args, console),
        Command::Config(args) => commands::config::run(args, console),
        Command::Completions(args) => commands::completions::completions(args, console),
        Command::Man(args) => commands::completions::man(args, console),
        #[cfg(feature = "demo")]
        Command::Demo(args) => commands::demo::run(args, console),
        #[cfg(feature = "demo")]
        Command::StandIn(program) => Ok(program.run().map(|()| Exit::Done)?),
    }
}
