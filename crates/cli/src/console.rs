//! What goes to the user: results to standard output, all else to standard error.

use crate::args::{Color, Common};
use crate::exit::Exit;
use crate::failure::{Failure, excerpt};
use crate::report::error as words;
use crate::settings::Settings;
use crate::table::Room;
use anstyle::{AnsiColor, Style};
use deft_needle_core::Error as CoreError;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::fmt::Display;
use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::sync::{Mutex, OnceLock};
use supports_unicode::Stream;

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
    /// What kept standard output from being written.
    broken: Mutex<Option<String>>,
}

/// Text in a style; the terminal's abilities and the user's wish decide whether it shows.
pub fn paint(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// What stands in for drawings and signs of ours where a terminal cannot show them.
const STAND_INS: &[(char, &str)] = &[
    ('▁', "."),
    ('▂', "."),
    ('▃', ":"),
    ('▄', "-"),
    ('▅', "="),
    ('▆', "+"),
    ('▇', "*"),
    ('█', "#"),
    ('…', "..."),
    ('→', "->"),
    ('×', "x"),
    ('−', "-"),
    ('–', "-"),
    ('±', "+/-"),
    ('°', " deg"),
    ('━', "="),
    ('╸', ">"),
    ('─', "-"),
];

/// A text as its terminal can show it; into files and pipes it goes as it is.
fn shown(text: &str, to: Stream) -> Cow<'_, str> {
    let lacks = !draws(to);
    if lacks { stood_in(text).into() } else { text.into() }
}

/// Whether block characters reach the reader: a terminal that cannot show them gets stand-ins.
pub fn draws(to: Stream) -> bool {
    static LACKS: [OnceLock<bool>; 2] = [OnceLock::new(), OnceLock::new()];
    let (lacks, terminal): (_, fn() -> bool) = match to {
        Stream::Stdout => (&LACKS[0], || io::stdout().is_terminal()),
        Stream::Stderr => (&LACKS[1], || io::stderr().is_terminal()),
    };
    !*lacks.get_or_init(|| terminal() && !supports_unicode::on(to))
}

fn stood_in(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    for c in text.chars() {
        match STAND_INS.iter().find(|(drawn, _)| *drawn == c) {
            Some((_, instead)) => plain += instead,
            None => plain.push(c),
        }
    }
    plain
}

/// The name of a file that was written, which terminals that can open it on a click.
pub fn written(path: &Path) -> String {
    let name = paint(BOLD, safe(&path.display().to_string()));
    let terminal = io::stdout().is_terminal() && io::stderr().is_terminal();
    match absolute_url(path).filter(|_| terminal && supports_hyperlinks::supports_hyperlinks()) {
        Some(url) => format!("\u{1b}]8;;{url}\u{1b}\\{name}\u{1b}]8;;\u{1b}\\"),
        None => name,
    }
}

/// A path as a URL of the file scheme (RFC 8089), every byte that is not plain escaped.
fn absolute_url(path: &Path) -> Option<String> {
    let path = std::path::absolute(path).ok()?;
    let text = path.to_str()?.replace('\\', "/");
    let mut url = "file://".to_owned();
    if !text.starts_with('/') {
        url.push('/');
    }
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' | b'~' | b':' => {
                url.push(char::from(byte));
            }
            other => url += &format!("%{other:02X}"),
        }
    }
    Some(url)
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
            broken: Mutex::new(None),
        }
    }

    /// How much room tables have.
    pub fn room(&self) -> Room {
        Room::of_terminal(self.settings.plain)
    }

    /// Whether results are shown as one fact a line, without drawings.
    pub fn plain(&self) -> bool {
        self.settings.plain
    }

    /// What the user has set.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// Whether one object on standard output is wanted instead of text.
    pub fn json(&self) -> bool {
        self.json
    }

    /// Whether only problems are wanted.
    pub fn quiet(&self) -> bool {
        self.quiet
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
    pub fn object<T: Serialize + JsonSchema>(&self, value: impl FnOnce() -> T) {
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
                self.mark_broken(&error);
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
        crate::progress::clear();
        let broken = self.broken.lock().map_or(Some(String::new()), |broken| broken.clone());
        let Some(why) = broken else { return Exit::Done };
        let help = "make room, or send the output elsewhere; what was done is done";
        self.error(&format!("cannot write to standard output: {why}"), None, help);
        Exit::Unwritten
    }

    fn out(&self, text: &str) {
        crate::progress::clear();
        let text = &*shown(text, Stream::Stdout);
        let mut out = anstream::stdout().lock();
        // A reader that has seen enough is no error.
        if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush())
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.mark_broken(&error);
        }
    }

    fn mark_broken(&self, error: &dyn Display) {
        if let Ok(mut broken) = self.broken.lock() {
            broken.get_or_insert_with(|| error.to_string());
        }
    }

    fn err(&self, text: &str) {
        crate::progress::clear();
        let text = &*shown(text, Stream::Stderr);
        // There is nowhere left to say that this failed.
        let _ = anstream::stderr().lock().write_all(text.as_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[cfg(unix)]
    fn files_have_urls() {
        let url = absolute_url(Path::new("/a b/möwe.wav")).unwrap();
        assert_eq!(url, "file:///a%20b/m%C3%B6we.wav");
    }

    #[test]
    fn drawings_have_stand_ins_and_names_keep_their_letters() {
        assert_eq!(stood_in("möwe.ogg ▁▄█ 3× …"), "möwe.ogg .-# 3x ...");
    }
}
