//! What is odd in sheets, jobs and lists, in words.

use super::{Words, near_or, words};
use crate::commands::counted;
use crate::report::unmet::{unmet, unmet_remedy};
use deft_needle_core::names::{Near, did_you_mean};
use deft_needle_core::refusal::{
    FileKind, Many, OddLine, OddList, OddRule, OddTemplate, OddText, Written,
};
use deft_needle_core::sheet::Size;

const SPLIT: &str = "split the sheet";
const NARROWER: &str = "the first rule that matches a slot counts: put the narrower one first";
const ONE_OF_THEM: &str = "leave one of them out";

/// What was meant, where one is near, and all that may be meant.
fn all_known(near: &[Near], known: &[String]) -> String {
    let known = format!("known are: {}", known.join(", "));
    did_you_mean(near).map_or(known.clone(), |near| format!("{near} {known}"))
}

/// What is odd in a template.
fn odd_template(odd: &OddTemplate) -> Words {
    match odd {
        OddTemplate::Unknown { name, slot, near, known, .. } => {
            let of = slot.as_ref().map_or("here".to_owned(), |slot| format!("of {slot}"));
            words(format!("{{{name}}} is not known {of}"), all_known(near, known))
        }
        OddTemplate::NoName { written } => words(
            format!("{written} names nothing"),
            "write {{ and }} for braces that are part of the text",
        ),
        OddTemplate::Brace { written, brace } => words(
            format!("\"{written}\" has a {brace} without its other one"),
            format!("write {brace}{brace} for a brace that is part of the text"),
        ),
        OddTemplate::Sum { written, why } => words(format!("{written}: {why}"), ""),
        OddTemplate::TooLong { most } => words(
            format!(
                "the filled-in text is longer than {}",
                Size(deft_needle_audio::num::count(*most))
            ),
            "shorten the template or its values",
        ),
        OddTemplate::Broken { kind, why } => words(
            format!("what it makes is no {kind}: {why}"),
            "{NAME|json} and {NAME|xml} write a text as these formats want it",
        ),
    }
}

/// What is odd in a text.
pub fn odd_text(odd: &OddText) -> Words {
    match odd {
        OddText::NoSheet(name, near) => words(
            format!("there is no sheet {name}: neither a file nor a built-in one"),
            near_or(near, "`deft-needle sheets` lists them"),
        ),
        OddText::NotUtf8(at) => {
            words(format!("it is not UTF-8 text (at byte {at})"), "save it as UTF-8")
        }
        OddText::NotText => words("it is not text in UTF-8 or UTF-16", "save it as UTF-8"),
        OddText::TooLarge(Written::Sheet, most) => words(
            format!("it is larger than {}, the most that a sheet may take", Size(*most)),
            "name a target sheet",
        ),
        OddText::TooLarge(Written::List, most) => words(
            format!("it is larger than {}, the most that a list may take", Size(*most)),
            "name a list of names",
        ),
        OddText::TooMany(Many::Expressions, most) => {
            words(format!("it has more than {most} expressions to find"), SPLIT)
        }
        OddText::TooMany(Many::Patterns, most) => {
            words(format!("it has more than {most} patterns"), SPLIT)
        }
        OddText::TooMany(Many::Values, most) => {
            words(format!("it has more than {most} values"), "use a smaller list")
        }
        OddText::TooMany(Many::Slots, most) => {
            words(format!("it has more than {most} slots"), "split it into several jobs")
        }
        OddText::TooMany(Many::Names, most) => words(
            format!("its lists give more than {most} names"),
            "name a shorter list, or part of it",
        ),
        OddText::Unknown { word, found, near, known } => {
            let kind = if *word { "word" } else { "key" };
            words(format!("unknown {kind} \"{found}\""), all_known(near, known))
        }
        OddText::MissingKey(key) => words(format!("the key \"{key}\" is missing"), ""),
        OddText::Grammar(reason) => words(reason, ""),
        OddText::Value(invalid) => words(invalid, ""),
        OddText::Template(odd) => odd_template(odd),
        OddText::NoFormat(file) => words(
            format!("unknown format of {file}"),
            "add format = \"json\", toml, ini, table, plist, lines or script",
        ),
        OddText::UnknownRoot { root, known } if known.is_empty() => words(
            format!("there is no root \"{root}\": the sheet names none"),
            format!("write roots = [\"{root}\"]"),
        ),
        OddText::UnknownRoot { root, known } => words(
            format!("there is no root \"{root}\""),
            format!("the sheet's roots are: {}", known.join(", ")),
        ),
        OddText::NotCache { pattern, file, kind } => not_cache(pattern.as_deref(), file, *kind),
        OddText::OneContent => words(
            "a file that is made needs one of text, template and from",
            "write what it holds, or the file beside the sheet that tells it",
        ),
        OddText::MadeOver { file, kind } => words(
            format!("[[make]] would replace {file}, which is {}", file_kind(*kind)),
            "choose another file name",
        ),
        OddText::MadeTwice(file) => words(
            format!("two slots make {file}, with different contents"),
            "use {stem} or {slot} in the name of the file",
        ),
        OddText::NoValue => words("the entry has no value to set or to expect", "write value = …"),
        OddText::NoLabelled => words("a label for a slot that does not exist", "check its path"),
        OddText::Rule(odd) => odd_rule(odd),
        OddText::List(odd) => odd_list(odd),
        OddText::Job(odd) => odd_line(odd),
        _ => words(format!("{odd:?}"), ""),
    }
}

/// What a file is to a target.
pub fn file_kind(kind: FileKind) -> &'static str {
    match kind {
        FileKind::Marker => "a marker",
        FileKind::List => "a list of names",
        FileKind::Entries => "a file with entries",
        FileKind::Slot => "a slot",
        FileKind::Replaced => "a file that was replaced",
        FileKind::Beside => "a file that is kept next to a slot",
    }
}

fn not_cache(pattern: Option<&str>, file: &str, kind: Option<FileKind>) -> Words {
    let finds = pattern.map_or("clear finds".to_owned(), |p| format!("clear = \"{p}\" finds"));
    let is = kind.map_or(String::new(), |kind| format!("{} and ", file_kind(kind)));
    words(
        format!("{finds} {file}, which is {is}not a cache"),
        "name the caches alone, such as \"**/warm.idx\"",
    )
}

fn odd_rule(odd: &OddRule) -> Words {
    match odd {
        OddRule::NoMatch => words("it matches no slot", "write match = 'sfx/*.wav'"),
        OddRule::KeysOfSound => words(
            "files of a closed format have no header, tags, route, level or length to check",
            "leave these keys out; largest, first-bytes and encoder are for such files",
        ),
        OddRule::KeysOfClosed => words(
            "first-bytes and encoder are for spec = \"opaque\"",
            "leave them out, or write spec = \"opaque\"",
        ),
        OddRule::Shortest => words("the shortest is longer than the longest", "swap the two"),
        OddRule::NoLoopPoints(line) => words(
            format!("loop = \"required\", but {line} has no place for loop points"),
            "a player that loops the whole file needs none: leave the key out",
        ),
        OddRule::NoLoopTags(line) => words(
            format!("loop-tags name texts, and {line} has none for loops"),
            "leave them out: its loop points have a place of their own",
        ),
        OddRule::NotWav(line) => {
            words(format!("header is for kinds of WAV, and this is {line}"), "leave it out")
        }
        OddRule::Route { rows, channels } => words(
            format!("the route feeds {rows} channels, and the spec line has {channels}"),
            "write one expression for each channel",
        ),
        OddRule::ExtensibleBlocks => words(
            "an extensible header has no place for the blocks of ADPCM",
            "write header = \"plain\"",
        ),
        OddRule::Holds(format) => {
            words(format!("{} cannot hold {}", format.container, format.encoding), "")
        }
        OddRule::Second { first } => {
            words(format!("never counts: the rule in line {first} comes first"), NARROWER)
        }
        OddRule::Covered { first } => words(
            format!(
                "never counts: every slot that it matches is taken by the rule in line {first}"
            ),
            NARROWER,
        ),
        OddRule::Unmatched => words(
            "no slot matches it",
            "check the pattern: * stays within a name, ** goes into folders",
        ),
        OddRule::Unmet(wanted) => Words(unmet(wanted), unmet_remedy(wanted)),
        _ => words(format!("{odd:?}"), ""),
    }
}

fn odd_list(odd: &OddList) -> Words {
    match odd {
        OddList::Place => words(
            "a list of names is either beside the sheet (from) or in a root (in-root)",
            "write one of the two",
        ),
        OddList::MakeAlone => {
            words("make uses what find has found", "write both of them, or neither")
        }
        OddList::Brace(make) => words(format!("\"{make}\" has a {{ without its }}"), ""),
        OddList::Brackets(number) => words(
            format!("find has no brackets number {{{number}}}"),
            "number its brackets from {1}; {0} is all that was found",
        ),
        OddList::Made(invalid) => words(invalid, "check what find finds and make makes of it"),
        OddList::Path(invalid) => words(invalid, ""),
        OddList::Delimiter(c) => {
            words(format!("\"{c}\" cannot part columns"), "name a plain character")
        }
        OddList::Quote => {
            words("a quote has no end", "end it, or write \"\" for one that is part of the text")
        }
        OddList::Column(name, known) if known.is_empty() => {
            words(format!("no column \"{name}\": the list is empty"), "")
        }
        OddList::Column(name, known) => words(
            format!("no column \"{name}\""),
            format!(
                "its columns are: {}; a number from 1 names one of a list without headings",
                known.join(", ")
            ),
        ),
        OddList::Nothing(pointer) => {
            words(format!("there is nothing at \"{pointer}\""), "check pointer and field")
        }
        OddList::NotMany(pointer) => words(
            format!("\"{pointer}\" is neither an object nor an array"),
            "check pointer and field",
        ),
        _ => words(format!("{odd:?}"), ""),
    }
}

pub(super) fn odd_line(odd: &OddLine) -> Words {
    const JOB: &str = "name a job sheet; `new` writes one from a folder of clips";
    match odd {
        OddLine::Folder => words("it is a folder, and no pack", JOB),
        OddLine::Binary => words("it is neither a job sheet nor a pack", JOB),
        OddLine::Sheet => words("it is a target's sheet", JOB),
        OddLine::Control => words(
            "a path holds a control character",
            "in double quotes \\t and \\n are a tab and a new line; write paths in single quotes",
        ),
        OddLine::BothRoots => words("it has both root and roots", "name the main one among roots"),
        OddLine::BothPlaces => words("it has both overlay and archive", "files go to one of them"),
        OddLine::Name => words("its name is empty or holds odd characters", "name it plainly"),
        OddLine::Root(target, root, known) => words(
            format!("{target} has no root \"{root}\""),
            format!("there are: {}", known.join(", ")),
        ),
        OddLine::NoClips(pattern) => {
            words(format!("no file matches {pattern}"), "check the folder and the spelling")
        }
        OddLine::TableAndMore => words(
            "a table names slots and clips by itself",
            "leave out slot, clip and prompts, or the table",
        ),
        OddLine::NoOverlay => words(
            "the target's sheet names no overlay",
            "write overlay = 'FOLDER' in it: the folder whose files win over the target's own",
        ),
        OddLine::NoSlot => words("it names no slot", "write slot = 'sfx/gull_#.ogg'"),
        OddLine::NoClip => words("it names no clip", "write clip = 'takes/kettle.wav'"),
        OddLine::ClipsAndPrompts => words("it has both clips and prompts", ONE_OF_THEM),
        OddLine::EncoderAndAsIs => words("it has both an encoder and as-is", ONE_OF_THEM),
        OddLine::Twice(slot, first) => {
            words(format!("{slot} is given to {first} already"), "name each slot once")
        }
        OddLine::Dealt { cards, pieces, slots, named } => {
            let what = if *pieces { "piece" } else { "clip" };
            let (cards, slots) = (counted(*cards, what), counted(*slots, "slot"));
            words(
                format!("{cards} for {slots} ({})", named.join(", ")),
                "name more slots, or fewer clips",
            )
        }
        OddLine::Each(line, other, true) => words(format!("{line} within {other}"), ""),
        OddLine::Each(line, other, false) => words(format!("{line} without {other}"), ""),
        odd => odd_prompt(odd),
    }
}

/// What is wrong with lines that are spoken.
fn odd_prompt(odd: &OddLine) -> Words {
    match odd {
        OddLine::NothingSaid(list, number, slot) => words(
            format!("line {number} of {list} says nothing for {slot}"),
            "write a phrase, or remove the line",
        ),
        OddLine::NoVoice => words(
            "no command is named that speaks the lines",
            "write [voice] with command = ['program', '{text}', '{out}']",
        ),
        OddLine::Command(role, [first, second]) => words(
            format!("the command of the {role} names its program, {first} and {second}"),
            format!("as in ['program', '{first}', '{second}']"),
        ),
        OddLine::EncoderOut(out) => words(
            format!("invalid encoder output \"{out}\""),
            "a file name without folders; with {in…}, one that contains {stem}: out = '{stem}.bin'",
        ),
        OddLine::ManyUnnamed => words(
            "an encoder with {in…} needs the names of its output files",
            "add out = '{stem}.bin'",
        ),
        _ => words(format!("{odd:?}"), ""),
    }
}
