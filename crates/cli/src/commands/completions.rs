//! Completions and manual pages, out of the one table of commands and options.

use crate::args::{self, Color, Completions, Man};
use crate::console::{Console, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use clap_complete::env::Shells;
use clap_mangen::Man as Page;
use deft_needle_core::error::Error as CoreError;
use std::fs;
use std::path::Path;

/// Prints what a shell has to run once.
pub fn completions(args: &Completions, console: &Console) -> Result<Exit, Failure> {
    let shell = args.shell.to_string();
    let shells = Shells::builtins();
    let completer = shells.completer(&shell).ok_or_else(|| {
        Failure::usage(
            format!("no completions for {shell}"),
            "there are some for bash, elvish, fish, powershell and zsh",
        )
    })?;
    let (name, mut text) = ("deft-needle", Vec::new());
    completer
        .write_registration("COMPLETE", name, name, name, &mut text)
        .map_err(CoreError::write("write to", Path::new("standard output")))?;
    print(&shell, &text, console)
}

/// Text that a shell or a pager reads.
fn print(name: &str, text: &[u8], console: &Console) -> Result<Exit, Failure> {
    let text = String::from_utf8_lossy(text);
    console.find(text.trim_end());
    console.object(|| object::Text { name, text: &text });
    Ok(Exit::Done)
}

/// Prints a page, or writes all of them.
pub fn man(args: &Man, console: &Console) -> Result<Exit, Failure> {
    let mut whole = args::command(Color::Never);
    whole.build();
    if let Some(folder) = &args.all {
        fs::create_dir_all(folder).map_err(CoreError::write("make", folder))?;
        let names = whole.get_subcommands().filter(|command| !command.is_hide_set());
        let mut pages = vec![("deft-needle".to_owned(), page(whole.clone(), "deft-needle"))];
        for command in names.filter(|command| command.get_name() != "help") {
            let name = format!("deft-needle-{}", command.get_name());
            pages.push((name.clone(), page(command.clone(), &name)));
        }
        for (name, text) in &pages {
            let path = folder.join(format!("{name}.1"));
            fs::write(&path, text).map_err(CoreError::write("write", &path))?;
        }
        let shown = safe(&folder.display().to_string());
        console.say(format!("{} manual pages in {shown}", pages.len()));
        console.object(|| object::Pages { folder: shown, pages: pages.len() });
        return Ok(Exit::Done);
    }
    let text = match &args.command {
        None => page(whole.clone(), "deft-needle"),
        Some(name) => {
            let command = whole.find_subcommand(name).ok_or_else(|| {
                Failure::usage(
                    format!("unknown command \"{name}\""),
                    "deft-needle --help lists the commands",
                )
            })?;
            page(command.clone(), &format!("deft-needle-{name}"))
        }
    };
    print(args.command.as_deref().unwrap_or("deft-needle"), &text, console)
}

/// A page in the language of manual pages.
fn page(command: clap::Command, name: &str) -> Vec<u8> {
    let mut text = Vec::new();
    // Writing to memory does not fail.
    let named = command.name(name.to_owned()).bin_name(name.replacen("needle-", "needle ", 1));
    let _ = Page::new(named).render(&mut text);
    text
}
