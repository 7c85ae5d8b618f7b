//! The commands in groups, as the help lists them.

use clap::Command;

/// Every command that is not hidden, in the order in which people work.
const GROUPS: &[(&str, &[&str])] = &[
    ("Look", &["inspect", "check", "seam", "slots", "hear", "proof"]),
    ("Make", &["fit", "learn", "sheets", "new"]),
    ("Install", &["swap", "install", "watch", "status", "restore", "rescue"]),
    ("Share", &["pack"]),
    ("Help", &["demo", "doctor", "config", "completions", "man", "help"]),
];

/// The help of the whole program with its commands in groups.
pub fn grouped(command: Command) -> Command {
    let style = *command.get_styles().get_header();
    let literal = *command.get_styles().get_literal();
    let mut list = String::new();
    for (heading, names) in GROUPS {
        list += &format!("{style}{heading}{style:#}\n");
        for name in *names {
            let about = command.find_subcommand(name).and_then(Command::get_about);
            let about = about.map(ToString::to_string).or_else(|| {
                (*name == "help").then(|| "Explain a command: deft-needle help fit".to_owned())
            });
            if let Some(about) = about {
                list += &format!("  {literal}{name:<13}{literal:#}{about}\n");
            }
        }
        list.push('\n');
    }
    command.help_template(format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{list}{{options}}{{after-help}}"
    ))
}

#[cfg(test)]
mod tests {
    use super::super::Cli;
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn every_command_stands_in_one_group() {
        let listed: Vec<&str> =
            GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        for command in Cli::command().get_subcommands().filter(|command| !command.is_hide_set()) {
            let name = command.get_name();
            assert_eq!(listed.iter().filter(|listed| **listed == name).count(), 1, "{name}");
        }
        let help = grouped(Cli::command()).render_help().to_string();
        assert!(help.contains("Look\n  inspect") && help.contains("--json"), "{help}");
    }
}
