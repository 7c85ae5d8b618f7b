//! The reference of options in the documentation is the table itself.

use deft_needle_audio::edit::{Group, OPTIONS, OptionRow, ValueKind};
use std::fmt::Write as _;

fn row(option: &OptionRow) -> String {
    let OptionRow { name, help, off, examples, .. } = option;
    let typed = match option.value {
        ValueKind::Flag => format!("--{name}"),
        ValueKind::One(value) | ValueKind::Many(value) => format!("--{name} {value}"),
        ValueKind::Maybe(value, _) => format!("--{name}[={value}]"),
        ValueKind::Word(words) => format!("--{name} {}", words.join("\\|")),
    };
    let shown: Vec<String> =
        examples.iter().map(|example| format!("`{}`", example.replace('|', "\\|"))).collect();
    let off = off.map_or(String::new(), |off| format!("`{off}`"));
    format!("| `{typed}` | {help} | {} | {off} |\n", shown.join(", "))
}

fn reference() -> String {
    let mut text = String::new();
    for (group, title) in [
        (Group::Reading, "Reading"),
        (Group::Spec, "Spec"),
        (Group::Shaping, "Shaping"),
        (Group::Looping, "Loops and tags"),
    ] {
        write!(
            text,
            "\n## {title}\n\n| option | | for example | off |\n| --- | --- | --- | --- |\n"
        )
        .unwrap();
        OPTIONS
            .iter()
            .filter(|option| option.group == group)
            .for_each(|option| text += &row(option));
    }
    text
}

/// With `DEFT_NEEDLE_WRITE_DOCS` set, it is rewritten.
#[test]
fn the_documentation_lists_every_option() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/options.md");
    let text = std::fs::read_to_string(path).unwrap();
    let (head, found) = text.split_once("\n## ").unwrap();
    if std::env::var_os("DEFT_NEEDLE_WRITE_DOCS").is_some() {
        std::fs::write(path, format!("{head}{}", reference())).unwrap();
        return;
    }
    assert_eq!(format!("\n## {found}"), reference(), "docs/options.md is not what the table says");
}
