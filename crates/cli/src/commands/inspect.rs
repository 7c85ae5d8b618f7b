//! What files really are.

use super::wanted::Opener;
use super::{counted, level, loudness, notice, sort_out};
use crate::args::Inspect;
use crate::console::{BOLD, Console, FAINT, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::{extension, sounds};
use crate::progress::Progress;
use crate::table::{Room, Table};
use deft_needle_audio::clip::Direction;
use deft_needle_audio::measure::{Ask, SILENCE_DBFS, Survey, survey};
use deft_needle_audio::num::{real, rounded, size};
use deft_needle_audio::read::sniff;
use deft_needle_audio::spec::Container;
use deft_needle_audio::units::{Duration, FrameRange};
use deft_needle_audio::{Clip, Facts};
use deft_needle_core::encoder::as_word;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Sounds are listed up to this many; all of them with `-v` or `--json`.
const MOST_SOUNDS: usize = 12;
/// A DC offset that is worth a line.
const NOTABLE_DC: f64 = 0.001;

/// All that was found about one file.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Inspection {
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    file: PathBuf,
    #[serde(flatten)]
    facts: Facts,
    seconds: f64,
    bit_rate: u64,
    named_wrongly: Option<String>,
    right_by: Option<String>,
    survey: Survey,
}

/// Inspects every file; what cannot be read is reported, and the rest goes on.
pub fn run(args: &Inspect, console: &Console) -> Result<Exit, Failure> {
    let files: Vec<PathBuf> = sounds(&args.files)?.into_iter().map(|sound| sound.path).collect();
    let first = files.first().map_or(Path::new("."), PathBuf::as_path);
    let opener = args.of.opener(first, args.options.hints())?;
    Progress::expect(console, files.len(), 1);
    if let Some(plot) = &args.plot {
        let [file] = files.as_slice() else {
            return Err(Failure::usage("--plot draws one file", "inspect the files one by one"));
        };
        let clip = opener.open(file)?;
        super::draw::inspected(clip, plot, args.plot_rate, console)?;
    }
    let found: Vec<_> = files.par_iter().map(|file| inspect(file, &opener, console)).collect();
    let (inspections, failed, exit) = sort_out(found, console);
    match inspections.as_slice() {
        [] => {}
        all if console.quiet() => {
            for one in all {
                let name = paint(WARN, format!("{}:", safe(&one.file.display().to_string())));
                warnings(one).iter().for_each(|text| console.find(format!("{name} {text}")));
            }
        }
        [one] if files.len() == 1 => console.find(in_full(one, console)),
        several => console.find(as_table(several, console.room())),
    }
    console.object(|| object::Inspected { files: &inspections, failed: &failed });
    Ok(exit)
}

fn inspect(file: &Path, opener: &Opener, console: &Console) -> Result<Inspection, Failure> {
    let clip = opener.open(file).map_err(|failure| renamed(file, failure))?;
    let facts = clip.facts().clone();
    let (named_wrongly, right_by) = misnamed(file, &clip).map(|m| (m.what, m.remedy)).unzip();
    let progress = Progress::new(console, "measuring", facts.frames);
    Ok(Inspection {
        survey: survey(&clip, Ask::ALL, &progress)?,
        seconds: facts.seconds(),
        bit_rate: facts.bit_rate(),
        named_wrongly,
        right_by,
        file: clip.input().name().to_owned(),
        facts,
    })
}

/// A name that claims another container than the content has.
#[derive(Debug)]
pub struct Misnamed {
    /// What it is named, and what it is.
    pub what: String,
    /// How that is corrected.
    pub remedy: String,
}

/// Whether a name claims another container than the content has.
pub fn misnamed(file: &Path, clip: &Clip) -> Option<Misnamed> {
    let is = clip.facts().format.container;
    claims_other(file, is).then(|| {
        let (named, name) = (extension(file), safe(&file.display().to_string()));
        let stem = file.file_stem().unwrap_or_default().to_string_lossy();
        // What it says becomes true by a conversion, or by its right name.
        let remedy = match Container::from_extension(&named) {
            Some(claimed) if !claimed.facts().writes.is_empty() => format!(
                "deft-needle fit {} -o {} makes it what it says",
                as_word(&name),
                as_word(&safe(&format!("{stem}-real.{named}")))
            ),
            _ => format!("its right name ends in .{}", is.facts().extensions[0]),
        };
        Misnamed { what: format!("named .{named} but is {is}"), remedy }
    })
}

fn claims_other(file: &Path, is: Container) -> bool {
    let extension = extension(file);
    let claimed = Container::from_extension(&extension);
    claimed.is_some() && !is.facts().has_extension(&extension)
}

/// Adds what the file really is to the message that it cannot be decoded.
fn renamed(file: &Path, failure: Failure) -> Failure {
    let sniffed = deft_needle_audio::read::open_regular(file)
        .ok()
        .and_then(|mut open| sniff::sniff(&mut open, file).ok());
    match sniffed.and_then(|sniffed| sniffed.container()) {
        Some(is) if claims_other(file, is) => Failure::Renamed {
            message: format!(
                "{} is named .{} but is {is}; {}",
                file.display(),
                extension(file),
                failure.message()
            ),
        },
        _ => failure,
    }
}

fn in_full(found: &Inspection, console: &Console) -> String {
    let verbose = console.verbose();
    let Inspection { facts, survey, .. } = found;
    let line = |name: &str, text: String| format!("  {name:<10}{text}");
    let header = facts.header.map_or(String::new(), |h| format!(", {h} header"));
    let mut lines = vec![paint(BOLD, safe(&found.file.display().to_string()))];
    lines.push(line(
        "is",
        format!("{}{header}, {:.0} kbit/s", facts.format, real(found.bit_rate) / 1000.0),
    ));
    if let Some(bits) = facts.valid_bits {
        lines.push(line("bits", format!("{bits} valid bits")));
    }
    if let Some(bytes) = facts.block_bytes {
        lines.push(line("blocks", format!("of {bytes} bytes")));
    }
    let frames = facts.frames;
    lines.push(line("length", format!("{}, {frames} frames", Duration(found.seconds))));
    lines.push(line(
        "levels",
        format!(
            "peak {}, true peak {}, loudness {}",
            level(survey.peak_dbfs, "dBFS"),
            level(survey.true_peak_dbtp, "dBTP"),
            loudness(survey.loudness)
        ),
    ));
    if !console.plain() {
        lines.push(line("wave", wave(&survey.outline)));
    }
    lines.extend(silence_lines(found, verbose, line));
    for l in &facts.loops {
        let FrameRange { start, end } = l.range;
        let length = Duration(facts.format.rate.seconds(l.range.len()));
        let plays = match l.plays {
            0 => "endless".to_owned(),
            n => format!("{n} times"),
        };
        let way = match l.direction {
            Direction::Forward => String::new(),
            direction => format!(", {direction}"),
        };
        let release = if l.release { ", release" } else { "" };
        let text = format!("frames {start} up to {end} ({length}), {plays}{way}{release}");
        lines.push(line("loop", text));
    }
    for marker in &facts.markers {
        let at = Duration(facts.format.rate.seconds(marker.frame));
        lines.push(line("marker", format!("{at}  {}", safe(&marker.name))));
    }
    for tag in &facts.tags {
        lines.push(line("tag", format!("{}: {}", safe(&tag.name), safe(&tag.value))));
    }
    if !facts.extras.is_empty() {
        let extra =
            |e: &deft_needle_audio::clip::Extra| format!("{} ({} bytes)", e.id.trim_end(), e.bytes);
        let all: Vec<_> = facts.extras.iter().map(extra).collect();
        lines.push(line("chunks", all.join(", ")));
    }
    lines.extend(warnings(found).iter().map(|text| notice(text)));
    lines.extend(found.right_by.iter().map(|text| notice(text)));
    lines.join("\n")
}

/// The clip's outline in block characters, 6 dB a step down to −48 dBFS.
fn wave(outline: &[f64]) -> String {
    const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let block = |peak: &f64| {
        let steps = (20.0 * peak.log10() + 48.0) / 6.0;
        BLOCKS[size(rounded(steps.ceil().clamp(0.0, 8.0)))]
    };
    let drawn: String = outline.iter().map(block).collect();
    drawn.trim_end().to_owned()
}

fn silence_lines(
    found: &Inspection,
    verbose: bool,
    line: impl Fn(&str, String) -> String,
) -> Vec<String> {
    let rate = found.facts.format.rate;
    let silence = &found.survey.silence;
    let time = |frames: u64| Duration(rate.seconds(frames));
    if silence.sounds.is_empty() {
        let text = format!("all of it is silent (below {SILENCE_DBFS} dBFS)");
        return vec![line("silence", text)];
    }
    let mut lines = vec![line(
        "silence",
        format!(
            "{} at the start, {} at the end (below {SILENCE_DBFS} dBFS)",
            time(silence.head),
            time(silence.tail)
        ),
    )];
    let most = if verbose { usize::MAX } else { MOST_SOUNDS };
    if silence.sounds.len() > 1 {
        for (number, sound) in (1..).zip(&silence.sounds).take(most) {
            let name = if number == 1 { "sounds" } else { "" };
            let [start, end, length] = [sound.start, sound.end, sound.len()].map(time);
            lines.push(line(name, format!("{number:>2}  {start} to {end}  ({length})")));
        }
        if silence.sounds.len() > most {
            let rest = silence.sounds.len() - most;
            lines.push(line("", format!("and {rest} more (-v shows all)")));
        }
    }
    lines
}

/// What is not as it should be.
fn warnings(found: &Inspection) -> Vec<String> {
    let Inspection { facts, survey, .. } = found;
    let mut all: Vec<String> = found.named_wrongly.iter().cloned().collect();
    all.extend(facts.notes.iter().map(ToString::to_string));
    let dc = survey.dc.iter().fold(0.0f64, |a, b| if b.abs() > a.abs() { *b } else { a });
    if dc.abs() >= NOTABLE_DC {
        all.push(format!("DC offset {:.2} %", dc * 100.0));
    }
    let clipped = &survey.clipped;
    if let Some(first) = clipped.first.first() {
        let at = Duration(facts.format.rate.seconds(first.start));
        all.push(format!(
            "clipped in {} ({} samples at full scale), the first at {at}",
            counted(deft_needle_audio::num::size(clipped.runs), "place"),
            clipped.samples
        ));
    }
    if survey.not_numbers > 0 {
        all.push(format!("{} samples are not numbers", survey.not_numbers));
    }
    all
}

fn as_table(all: &[Inspection], room: Room) -> String {
    let heading =
        ["file", "is", "header", "length", "kbit/s", "peak", "true peak", "LUFS", "loop", "notes"];
    let mut rows = vec![heading.map(|name| paint(FAINT, name)).to_vec()];
    for one in all {
        let Inspection { facts, survey, .. } = one;
        let figure = |value: f64| match value.is_finite() {
            true => format!("{value:.1}"),
            false => "-".to_owned(),
        };
        rows.push(vec![
            safe(&one.file.display().to_string()),
            facts.format.to_string(),
            facts.header.map_or(String::new(), |h| h.to_string()),
            Duration(one.seconds).to_string(),
            format!("{:.0}", real(one.bit_rate) / 1000.0),
            figure(survey.peak_dbfs),
            figure(survey.true_peak_dbtp),
            figure(survey.loudness.lufs),
            if facts.loops.is_empty() { "" } else { "yes" }.to_owned(),
            paint(WARN, warnings(one).join("; ")),
        ]);
    }
    Table::new(rows, &[3, 4, 5, 6, 7], &[4, 2, 6, 8]).whole(&[1]).text(room)
}
