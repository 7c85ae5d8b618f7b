//! A small language for what is typed and what comes back.
//!
//! A line that begins with `$ ` is typed; those below it are what both outputs say, in order, trimmed at the end.
//! `…` stands for any text within a line, and alone on a line for any lines. `[5]` at the end of a command is its
//! exit code, where it is not 0.

use super::{Bench, Ran, told};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Stdio;

impl Bench {
    /// Types a line, with quotes as a shell has them.
    pub fn sh(&self, line: &str) -> Ran {
        let words = words(line);
        let args: Vec<&str> = words.iter().map(String::as_str).collect();
        self.run(&args)
    }

    /// Plays a text, and says where the program differs from it.
    pub fn play(&self, text: &str) {
        let mut lines = text.lines().map(str::trim_end).peekable();
        while let Some(line) = lines.next() {
            let Some(typed) = line.trim_start().strip_prefix("$ ") else {
                assert!(line.trim().is_empty(), "nothing was typed before: {line}");
                continue;
            };
            let (typed, code) = exit_code(typed);
            let mut expected = Vec::new();
            while let Some(line) = lines.next_if(|line| !line.trim_start().starts_with("$ ")) {
                expected.push(line.trim().to_owned());
            }
            while expected.last().is_some_and(String::is_empty) {
                expected.pop();
            }
            let (said, found) = self.both(typed);
            assert_eq!(found, code, "$ {typed}\n{said}");
            let lines: Vec<&str> = said.lines().map(str::trim).collect();
            assert!(
                fits(&expected, &lines),
                "$ {typed}\n--- expected\n{}\n--- said\n{said}",
                expected.join("\n")
            );
        }
    }

    /// Plays the commands of a page of the documentation in a folder: indented lines that begin with `$ `, and what is
    /// shown below each. How many there were.
    pub fn play_page(&self, folder: &str, page: &str, text: &str) -> usize {
        let mut lines = text.lines().peekable();
        let (mut played, mut folder) = (0, PathBuf::from(folder));
        while let Some(line) = lines.next() {
            let Some(typed) = line.strip_prefix("    $ ") else { continue };
            if let Some(to) = typed.strip_prefix("cd ") {
                folder.push(to);
                continue;
            }
            let (typed, code) = exit_comment(typed);
            let mut expected = Vec::new();
            while let Some(line) =
                lines.next_if(|l| l.starts_with("    ") && !l.starts_with("    $ "))
            {
                expected.push(line.trim().to_owned());
            }
            let (said, found) = self.both_in(&folder, typed);
            assert_eq!(found, code, "{page}: $ {typed}\n{said}");
            let lines: Vec<&str> = said.lines().map(str::trim).collect();
            let shown = expected.join("\n");
            assert!(
                expected.is_empty() || fits(&expected, &lines),
                "{page}: $ {typed}\n--- shown\n{shown}\n--- said\n{said}"
            );
            played += 1;
        }
        played
    }

    fn both(&self, typed: &str) -> (String, i32) {
        self.both_in(Path::new("."), typed)
    }

    /// Both outputs in the order in which they came, and the exit code.
    fn both_in(&self, folder: &Path, typed: &str) -> (String, i32) {
        let path = self.0.path().join(".said");
        let file = File::create(&path).unwrap();
        let words = words(typed);
        let args: Vec<&str> = words.iter().map(String::as_str).collect();
        let mut command = self.command(&args);
        command
            .current_dir(self.0.path().join(folder))
            .stdin(Stdio::null())
            .stdout(file.try_clone().unwrap())
            .stderr(file);
        let ran = told(command.output().unwrap());
        let said = std::fs::read_to_string(&path).unwrap();
        std::fs::remove_file(&path).unwrap();
        (said, ran.code)
    }
}

/// A command of a page, and the exit code that a comment behind it says: `# exit code 5`.
fn exit_comment(typed: &str) -> (&str, i32) {
    match typed.rsplit_once("# exit code ") {
        Some((typed, code)) => (typed.trim_end(), code.trim().parse().unwrap()),
        None => (typed, 0),
    }
}

/// A page with what its commands say now, the most of it; for whoever rewrites it.
pub fn filled(bench: &Bench, folder: &str, text: &str) -> String {
    const MOST: usize = 14;
    let mut lines = text.lines().peekable();
    let mut page = String::new();
    while let Some(line) = lines.next() {
        page += &format!("{line}\n");
        let Some(typed) = line.strip_prefix("    $ ") else { continue };
        while lines.next_if(|l| l.starts_with("    ") && !l.starts_with("    $ ")).is_some() {}
        let (said, _) = bench.both_in(Path::new(folder), exit_comment(typed).0);
        // Where the program lies is this machine's own.
        let said = said.replace(env!("CARGO_BIN_EXE_deft-needle"), "…/deft-needle");
        let said: Vec<&str> = said.trim_end().lines().collect();
        for line in said.iter().take(if said.len() > MOST + 1 { MOST } else { said.len() }) {
            page += format!("    {line}").trim_end();
            page.push('\n');
        }
        if said.len() > MOST + 1 {
            page += "      …\n";
        }
    }
    page
}

fn exit_code(typed: &str) -> (&str, i32) {
    let coded = typed.strip_suffix(']').and_then(|rest| rest.rsplit_once(" ["));
    match coded.and_then(|(typed, code)| Some((typed, code.parse().ok()?))) {
        Some((typed, code)) => (typed.trim_end(), code),
        None => (typed, 0),
    }
}

/// The words of a line, as a shell would part them; `deft-needle` itself is left out.
pub fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote, mut open) = (Vec::new(), String::new(), None, false);
    for c in line.chars() {
        match (quote, c) {
            (Some(q), c) if c == q => quote = None,
            (None, '"' | '\'') => (quote, open) = (Some(c), true),
            (None, ' ') => {
                if open || !word.is_empty() {
                    words.push(std::mem::take(&mut word));
                }
                open = false;
            }
            (_, c) => word.push(c),
        }
    }
    if open || !word.is_empty() {
        words.push(word);
    }
    if words.first().is_some_and(|first| first == "deft-needle") {
        words.remove(0);
    }
    words
}

fn fits(expected: &[String], lines: &[&str]) -> bool {
    match expected.split_first() {
        None => lines.is_empty(),
        Some((any, rest)) if any == "…" => {
            (0..=lines.len()).any(|skip| fits(rest, &lines[skip..]))
        }
        Some((first, rest)) => match lines.split_first() {
            Some((line, lines)) => is_like(first, line) && fits(rest, lines),
            None => false,
        },
    }
}

fn is_like(pattern: &str, line: &str) -> bool {
    let mut parts = pattern.split('…');
    let Some(mut rest) = line.strip_prefix(parts.next().unwrap_or_default()) else { return false };
    let mut last = None;
    for part in parts {
        let Some(at) = rest.find(part) else { return false };
        rest = &rest[at + part.len()..];
        last = Some(part);
    }
    match last {
        None => rest.is_empty(),
        Some("") => true,
        Some(part) => rest.is_empty() || line.ends_with(part),
    }
}

#[test]
fn the_language() {
    assert_eq!(words("fit 'a b.wav' -o \"\" x"), ["fit", "a b.wav", "-o", "", "x"]);
    for (pattern, line, like) in [
        ("a…c", "abc", true),
        ("a…c", "abcd", false),
        ("…", "x", true),
        ("a", "ab", false),
        ("… 2 …", "1 2 3", true),
    ] {
        assert_eq!(is_like(pattern, line), like, "{pattern} {line}");
    }
    assert_eq!(exit_code("status [5]"), ("status", 5));
}
