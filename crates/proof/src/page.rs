//! The page, from what is known of every slot.

use crate::draw::{Drawn, PARTS};
use askama::Template;
use askama::filters::MaybeSafe;
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use base64::write::EncoderWriter;
use deft_needle_audio::shape::biquad::Response;
use deft_needle_audio::shape::voicing::VOICINGS;
use deft_needle_audio::units::Duration;
use sha2::{Digest as _, Sha256};
use std::collections::BTreeSet;
use std::io::{self, Read, Write};
use std::path::Path;

const STYLE: &str = include_str!("../assets/page.css");
const SCRIPT: &str = include_str!("../assets/page.js");
/// Runs before all else: nothing is laid out until everything is there, which takes a third of the time.
const OPENING: &str = "document.documentElement.className='opening';\
    addEventListener('DOMContentLoaded',()=>{document.documentElement.className=''})";
/// The voicing whose band limits are those of a small loudspeaker.
const SMALL: &str = "tin-bear";
/// Louder or quieter than the stock by this stands out, in LU.
const APART: f64 = 6.0;

/// Something that is wrong, or that should be known.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Told {
    /// What.
    pub text: String,
    /// What would answer it, to copy.
    pub help: Option<String>,
}

/// All together against what there is room for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Room {
    /// Bytes that all take.
    pub takes: u64,
    /// Bytes that they may take.
    pub most: u64,
    /// Both in words.
    pub words: String,
}

/// A stretch of a sound that is marked in its outline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mark {
    /// `clipped`, `cut`, `fade` or `limited`.
    pub kind: &'static str,
    /// From which of the [`PARTS`] of the outline on.
    pub start: u32,
    /// Over how many.
    pub width: u32,
    /// What it is.
    pub words: String,
}

/// Where a sound is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Sounds {
    /// In the page.
    Inline {
        /// The file.
        bytes: Vec<u8>,
        /// Its media type.
        kind: &'static str,
    },
    /// In files beside it: one for players, one that hands it over as text.
    Beside {
        /// For players.
        file: String,
        /// As text.
        script: String,
    },
    /// Nowhere.
    #[default]
    Nowhere,
}

/// A sound of a slot.
#[derive(Debug, Clone, Default)]
pub struct Side {
    /// The spec line.
    pub spec: String,
    /// Length in seconds.
    pub seconds: f64,
    /// The same in words.
    pub length: String,
    /// Frames a second, and how many there are.
    pub rate: u32,
    /// How many there are.
    pub frames: u64,
    /// Loudness in LUFS.
    pub lufs: Option<f64>,
    /// True peak in dBTP.
    pub peak: Option<f64>,
    /// Its loop, the end being the first frame that is not played.
    pub looped: Option<(u64, u64)>,
    /// What is marked.
    pub marks: Vec<Mark>,
    /// Its pictures.
    pub drawn: Drawn,
    /// The sound.
    pub sound: Sounds,
}

/// A slot.
#[derive(Debug, Clone, Default)]
pub struct Card {
    /// Counted from 1.
    pub number: usize,
    /// The slot.
    pub slot: String,
    /// The clip.
    pub clip: String,
    /// How it stands to the root.
    pub state: String,
    /// What files of its kind are called: container and encoding.
    pub kind: String,
    /// What its variants share.
    pub family: Option<String>,
    /// What should be known.
    pub notices: Vec<Told>,
    /// What was decided, and why.
    pub decisions: Vec<(String, String)>,
    /// Its lines in a job sheet.
    pub lines: String,
    /// What is replaced.
    pub stock: Option<Side>,
    /// What replaces it.
    pub new: Option<Side>,
}

/// The page.
#[derive(Debug, Clone, Default)]
pub struct Page {
    /// What marks are kept under.
    pub id: String,
    /// Its title.
    pub title: String,
    /// The job's name.
    pub job: String,
    /// What it is about: names and values.
    pub facts: Vec<(String, String)>,
    /// Room for all.
    pub room: Option<Room>,
    /// What is wrong.
    pub problems: Vec<Told>,
    /// What should be known of all.
    pub notes: Vec<String>,
    /// The slots.
    pub cards: Vec<Card>,
    /// Who made it.
    pub made: String,
    /// Which turn it is of a job that is watched.
    pub turn: Option<u64>,
    /// The folder beside it, by its name.
    pub files: String,
}

#[derive(Template)]
#[template(path = "page.html")]
struct Html<'a> {
    page: &'a Page,
    policy: String,
    style: &'static str,
    script: &'a str,
    opening: &'static str,
    strip_width: usize,
    strip_em: usize,
}

impl Page {
    /// Writes the page.
    ///
    /// # Errors
    /// Those of writing.
    pub fn write(&self, out: &mut dyn io::Write) -> io::Result<()> {
        let script = SCRIPT.replace("(/** @type {unknown} */ ([]))", &small_loudspeaker());
        let beside = self.turn.is_some() || self.cards.iter().any(Card::is_beside);
        let page = Html {
            page: self,
            policy: policy(&script, beside),
            style: STYLE,
            script: &script,
            opening: OPENING,
            strip_width: 8 * self.cards.len().max(1),
            // Wide enough to be told apart, never wider than a screen where they are few.
            strip_em: (self.cards.len() * 2).clamp(8, 60).max(self.cards.len() * 2 / 5),
        };
        page.write_into(out)
    }

    /// What stands in states, for choosing among them.
    fn states(&self) -> BTreeSet<&str> {
        self.cards.iter().map(|card| card.state.as_str()).collect()
    }

    fn kinds(&self) -> BTreeSet<&str> {
        let named = self.cards.iter().map(|card| card.kind.as_str());
        named.filter(|kind| !kind.is_empty()).collect()
    }

    /// Frequencies under the spectra, and where they lie.
    #[expect(clippy::unused_self, reason = "the template asks its page")]
    fn ticks(&self) -> [(u32, &'static str); 4] {
        [100.0, 1_000.0, 5_000.0, 15_000.0].map(|hertz: f64| {
            let words = match hertz {
                h if h < 1_000.0 => "100 Hz",
                h if h < 5_000.0 => "1 kHz",
                h if h < 15_000.0 => "5 kHz",
                _ => "15 kHz",
            };
            (crate::draw::tick(hertz), words)
        })
    }
}

/// What the page may load: itself, and where sounds lie beside it, files of its own folder. No network at all.
fn policy(script: &str, beside: bool) -> String {
    let sum = |text: &str| BASE64_STANDARD.encode(Sha256::digest(text));
    let files = if beside { " 'self' file:" } else { "" };
    format!(
        "default-src 'none'; base-uri 'none'; form-action 'none'; style-src 'sha256-{}'; \
         script-src 'sha256-{}' 'sha256-{}'{files}; media-src data:{files}; img-src data:",
        sum(STYLE),
        sum(OPENING),
        sum(script)
    )
}

/// The filters of the voicing, as the script's browsers have them.
fn small_loudspeaker() -> String {
    let voicing = VOICINGS.iter().find(|voicing| voicing.name == SMALL);
    let bands = voicing.into_iter().flat_map(|voicing| voicing.before.iter().chain(voicing.after));
    let filters = bands.filter_map(|band| {
        let kind = match band.response {
            Response::HighPass => "highpass",
            Response::LowPass => "lowpass",
            Response::Peak(_) => return None,
        };
        // Browsers count the resonance of both in decibels.
        Some(format!("[\"{kind}\",{},{:.3}]", band.hertz, 20.0 * band.q.log10()))
    });
    format!("[{}]", filters.collect::<Vec<_>>().join(","))
}

/// A level in the strip: 0 LUFS at 2, -60 at 99.
fn in_strip(lufs: Option<f64>) -> Option<u32> {
    let part = (-lufs? / 60.0).clamp(0.0, 1.0);
    u32::try_from(deft_needle_audio::num::rounded(2.0 + 97.0 * part)).ok()
}

impl Card {
    fn is_beside(&self) -> bool {
        let sides = [&self.stock, &self.new];
        sides.into_iter().flatten().any(|side| matches!(side.sound, Sounds::Beside { .. }))
    }

    fn both(&self) -> [(&'static str, Option<&Side>); 2] {
        [("stock", self.stock.as_ref()), ("new", self.new.as_ref())]
    }

    #[expect(clippy::unused_self, reason = "the template asks its card")]
    fn title(&self, side: &str) -> &'static str {
        if side == "stock" { "stock" } else { "replacement" }
    }

    fn absent(&self, side: &str) -> &'static str {
        match (side, &self.new) {
            ("stock", _) => "none that can be heard",
            _ => "a closed format: it cannot be heard here",
        }
    }

    /// How much louder it is than the stock, in LU.
    fn apart(&self) -> Option<f64> {
        let lufs = |side: &Option<Side>| side.as_ref().and_then(|side| side.lufs);
        // Without a sign where it is nothing.
        Some(((lufs(&self.new)? - lufs(&self.stock)?) * 10.0).round() / 10.0 + 0.0)
    }

    fn is_apart(&self) -> bool {
        self.apart().is_some_and(|apart| apart.abs() >= APART)
    }

    fn difference(&self) -> String {
        self.apart().map_or_else(String::new, |apart| match apart {
            0.0 => "0.0 LU".to_owned(),
            apart => format!("{apart:+.1} LU"),
        })
    }

    /// How many times as long as the stock.
    fn ratio(&self) -> Option<f64> {
        let seconds = |side: &Option<Side>| side.as_ref().map(|side| side.seconds);
        let ratio = seconds(&self.new)? / seconds(&self.stock)?.max(1e-6);
        Some((ratio * 1000.0).round() / 1000.0)
    }

    fn levels(&self) -> String {
        let words = |side: &Option<Side>| side.as_ref().map_or("-".to_owned(), Side::loudness);
        format!("stock {}, replacement {}", words(&self.stock), words(&self.new))
    }

    fn stock_level(&self) -> Option<u32> {
        in_strip(self.stock.as_ref()?.lufs)
    }

    fn new_level(&self) -> Option<u32> {
        in_strip(self.new.as_ref()?.lufs)
    }

    fn new_length(&self) -> String {
        self.new.as_ref().map_or_else(|| "-".to_owned(), |side| side.length.clone())
    }

    fn stock_length(&self) -> String {
        self.stock.as_ref().map_or_else(|| "-".to_owned(), |side| side.length.clone())
    }

    fn new_loudness(&self) -> String {
        self.new.as_ref().map_or_else(|| "-".to_owned(), Side::loudness)
    }

    fn most_seconds(&self) -> f64 {
        let seconds = [&self.stock, &self.new].into_iter().flatten().map(|side| side.seconds);
        seconds.fold(1e-6, f64::max)
    }

    fn longest(&self) -> String {
        Duration(self.most_seconds()).to_string()
    }

    /// Of the axis that both share, in percent.
    fn width(&self, side: &Side) -> String {
        format!("{:.2}", 100.0 * side.seconds / self.most_seconds())
    }
}

impl Side {
    fn loudness(&self) -> String {
        self.lufs.map_or_else(|| "silent".to_owned(), |lufs| format!("{lufs:.1} LUFS"))
    }

    fn peak_words(&self) -> String {
        let finite = self.peak.filter(|peak| peak.is_finite());
        finite.map_or_else(|| "silent".to_owned(), |peak| format!("{peak:.1} dBTP"))
    }

    fn loop_words(&self) -> Option<String> {
        let (start, end) = self.looped?;
        let seconds = |frame: u64| {
            Duration(deft_needle_audio::num::real(frame) / f64::from(self.rate.max(1))).to_string()
        };
        Some(format!("{} to {} ({} frames)", seconds(start), seconds(end), end - start))
    }

    /// Its loop among the parts of the outline.
    fn loop_part(&self) -> Option<(u64, u64)> {
        let (start, end) = self.looped?;
        let part =
            |frame: u64| deft_needle_audio::num::scaled(frame, PARTS.into(), self.frames.max(1));
        Some((part(start), (part(end) - part(start)).max(1)))
    }

    fn player(&self) -> Option<MaybeSafe<String>> {
        match &self.sound {
            Sounds::Inline { bytes, kind } => {
                let digits = BASE64_STANDARD.encode(bytes);
                // Nothing in it means anything in HTML, and there are many of them.
                Some(MaybeSafe::Safe(format!("data:{kind};base64,{digits}")))
            }
            Sounds::Beside { file, .. } => Some(MaybeSafe::NeedsEscaping(file.clone())),
            Sounds::Nowhere => None,
        }
    }

    fn script(&self) -> Option<&str> {
        match &self.sound {
            Sounds::Beside { script, .. } => Some(script),
            Sounds::Inline { .. } | Sounds::Nowhere => None,
        }
    }
}

/// What the file of text of a sound begins with.
pub const HANDS_OVER: &str = "needleSound(";
/// What the file that tells the turn begins with.
pub const TURNS: &str = "needleTurn(";

/// Writes what a sound's file of text holds: it hands itself over under its own path.
///
/// # Errors
/// Those of both.
pub fn hand_over(script: &str, sound: &mut dyn Read, out: &mut dyn Write) -> io::Result<()> {
    write!(out, "{HANDS_OVER}{script:?},\"")?;
    let mut digits = EncoderWriter::new(&mut *out, &BASE64_STANDARD);
    io::copy(sound, &mut digits)?;
    digits.finish()?;
    drop(digits);
    writeln!(out, "\");")
}

/// What tells an open page which turn it is.
pub fn turning(turn: u64) -> String {
    format!("{TURNS}{turn});\n")
}

/// The folder of what lies beside a page.
pub fn files_beside(page: &Path) -> String {
    let stem = page.file_stem().unwrap_or_default().to_string_lossy();
    format!("{stem}.files")
}
