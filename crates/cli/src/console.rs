//! What goes to the user: results to standard output, all else to standard error.

use crate::args::{Color, Common};
use crate::exit::Exit;
use crate::failure::{Failure, excerpt};
use crate::report::error as words;
use crate::settings::Settings;
use anstyle::{AnsiColor, Style};
use deft_needle_core::Error as CoreError;
use serde::Serialize;
use serde_json::{Map, Value};
use std::fmt::Display;
use std::io::{self, Write};
use std::sync::Mutex;

/// Good news.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Something to look at.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// Something that failed.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// Names and headings.
pub const BOLD: Style = Style::new().bold();
/// Less important.
pub const FAINT: Style = Style::new().dimmed();

/// Where a command says what it has to say.
#[derive(Debug)]
pub struct Console {
    quiet: bool,
    verbose: bool,
    json: bool,
    settings: Settings,
    /// Whether standard output could not be written, other than by a reader who left early.
    broken: Mutex<bool>,
}

/// Text in a style; the terminal's abilities and the user's wish decide whether it shows.
pub fn paint(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// A name from outside with control characters made visible, so that none reaches a terminal; those that
/// turn the direction of text (Unicode UAX #9) and those that show nothing, too.
pub fn safe(text: &str) -> String {
    let hidden = |c: char| matches!(c, '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}');
    let escape = |c: char| match c.is_control() || hidden(c) {
        true => c.escape_default().to_string(),
        false => c.to_string(),
    };
    text.chars().map(escape).collect()
}

impl Console {
    /// As the options say.
    pub fn new(common: &Common, settings: &Settings) -> Self {
        let choice = match common.color.unwrap_or(settings.color) {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        Self {
            quiet: common.quiet,
            verbose: common.verbose > 0,
            json: common.json,
            settings: Settings { plain: common.plain || settings.plain, ..settings.clone() },
            broken: Mutex::new(false),
        }
    }

    /// What the user has set.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// Whether one object on standard output is wanted instead of text.
    pub fn json(&self) -> bool {
        self.json
    }

    /// Whether more than the usual is wanted.
    pub fn verbose(&self) -> bool {
        self.verbose
    }

    /// Whether progress may be shown.
    pub fn shows_progress(&self) -> bool {
        !self.quiet && !self.json && self.settings.progress.is_some()
    }

    /// Results, as text; nothing with `--json`.
    pub fn say(&self, text: impl Display) {
        if !self.json && !self.quiet {
            self.out(&format!("{text}\n"));
        }
    }

    /// Findings: shown even with `-q`, but not with `--json`.
    pub fn find(&self, text: impl Display) {
        if !self.json {
            self.out(&format!("{text}\n"));
        }
    }

    /// The one object of `--json`, built only for it.
    pub fn object<T: Serialize>(&self, value: impl FnOnce() -> T) {
        if !self.json {
            return;
        }
        let object = serde_json::to_value(value()).map(|value| match value {
            Value::Object(values) => {
                let mut all = Map::new();
                all.insert("version".to_owned(), env!("CARGO_PKG_VERSION").into());
                all.extend(values);
                Value::Object(all)
            }
            other => other,
        });
        match object.and_then(|object| serde_json::to_string_pretty(&object)) {
            Ok(text) => {
                if text.contains(char::REPLACEMENT_CHARACTER) {
                    self.warn("a name that is not valid Unicode is shown with \u{fffd} in it");
                }
                self.out(&format!("{text}\n"));
            }
            Err(error) => {
                self.err(&format!("{} internal error: {error}\n", paint(BAD, "error:")));
                self.mark_broken();
            }
        }
    }

    /// Something that must be known even with `-q`: which root a change goes to.
    pub fn announce(&self, text: impl Display) {
        self.err(&format!("{} {text}\n", paint(WARN, "note:")));
    }

    /// Something to look at, on standard error.
    pub fn warn(&self, text: impl Display) {
        if !self.quiet {
            self.err(&format!("{} {text}\n", paint(WARN, "note:")));
        }
    }

    /// Something that failed, and what to do about it, on standard error.
    pub fn failure(&self, failure: &Failure) {
        self.error(&failure.message(), failure.excerpt(), &failure.remedy());
    }

    /// Something that is wrong with a job, as [`Console::failure`] says it.
    pub fn fault(&self, fault: &CoreError) {
        self.error(&words::core(fault), excerpt(fault), &words::core_remedy(fault));
    }

    /// The same, of something by this name.
    pub fn fault_of(&self, name: impl Display, fault: &CoreError) {
        let message = format!("{name}: {}", words::core(fault));
        self.error(&message, excerpt(fault), &words::core_remedy(fault));
    }

    fn error(&self, message: &str, excerpt: Option<[String; 2]>, remedy: &str) {
        let mut text = format!("{} {}\n", paint(BAD, "error:"), safe(message));
        for line in excerpt.iter().flatten() {
            text += &format!("       {}\n", paint(FAINT, safe(line)));
        }
        if !remedy.is_empty() {
            text += &format!("{} {}\n", paint(GOOD, "help:"), safe(remedy));
        }
        self.err(&text);
    }

    /// Bytes to standard output as they are.
    pub fn bytes(&self, mut bytes: impl io::Read) -> io::Result<()> {
        let mut out = io::stdout().lock();
        match io::copy(&mut bytes, &mut out).and_then(|_| out.flush()) {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
            other => other,
        }
    }

    /// The last word: whether all results reached standard output.
    pub fn finish(&self) -> Exit {
        match self.broken.lock() {
            Ok(broken) if !*broken => Exit::Done,
            _ => Exit::Unwritten,
        }
    }

    fn out(&self, text: &str) {
        let mut out = anstream::stdout().lock();
        // A reader that has seen enough is no error.
        if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush())
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.mark_broken();
        }
    }

    fn mark_broken(&self) {
        if let Ok(mut broken) = self.broken.lock() {
            *broken = true;
        }
    }

    fn err(&self, text: &str) {
        // There is nowhere left to say that this failed.
        let _ = anstream::stderr().lock().write_all(text.as_bytes());
    }
}
