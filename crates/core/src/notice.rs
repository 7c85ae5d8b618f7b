//! What a user should know of a job or a file, and that keeps nothing from being done.

use crate::sheet::Size;
use deft_needle_audio::edit::Overruled;
use deft_needle_audio::seam::Judgement;
use deft_needle_audio::spec::Format;
use schemars::JsonSchema;
use serde::Serialize;

/// Something that the user should know, and that keeps nothing from being done.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Notice {
    /// An option wins over the sheet.
    Overruled(Overruled),
    /// The sheet asks for the stock's level, and no stock is known.
    NoStockLevel,
    /// The vendor or somebody else has put another file there since it was installed.
    ChangedSince {
        /// How many generations of stock are kept now.
        kept: usize,
    },
    /// The target takes turns between slots of which some are left as they are.
    VariantsLeft {
        /// What they share, with `#` where they differ.
        family: String,
        /// How many are replaced.
        replaced: usize,
        /// How many there are.
        all: usize,
        /// Those that are not.
        left: Vec<String>,
    },
    /// Most slots of a folder or of a list are replaced, and some are left as they are.
    SlotsLeft {
        /// The folder, or the list's file.
        of: String,
        /// How many are replaced.
        replaced: usize,
        /// How many there are.
        all: usize,
        /// Those that are not.
        left: Vec<String>,
    },
    /// A file that belongs to the slot is still that of another sound: the clip brings none.
    CompanionStale {
        /// The file.
        file: String,
    },
    /// Clips, or sounds of one, that do not go into their slots evenly.
    Uneven {
        /// The slots, as they are written.
        slots: Vec<String>,
        /// How many are dealt out.
        dealt: usize,
        /// Whether those are parts of clips.
        pieces: bool,
        /// To how many slots.
        to: usize,
    },
    /// A prompt list without a line for slots of its kind.
    NoPrompt {
        /// Those.
        slots: Vec<String>,
    },
    /// The slot is a link, which makes way for a file of its own.
    LinkReplaced {
        /// The slot that it leads to; nothing where that is none of the root's.
        to: Option<String>,
    },
    /// The slot that was named is a link; the file that it leads to is replaced.
    LinkFollowed {
        /// The slot that was named.
        link: String,
    },
    /// Other slots are links to this one, and change with it.
    LinkedBy {
        /// Those.
        links: Vec<String>,
    },
    /// What all slots take together, of what they may.
    Room {
        /// About.
        takes: Size,
        /// At most.
        budget: Size,
    },
    /// What the sheet asks beside the files, and that a single swap leaves out.
    EntriesLeft {
        /// Files of entries.
        files: Vec<String>,
        /// Patterns of caches.
        caches: Vec<String>,
    },
    /// Entries that a pack does not bring: files of the target's that would have to be edited.
    EntriesNotPacked {
        /// Those files.
        files: Vec<String>,
    },
    /// The file has another format than the stock, as the target's list tells it.
    OtherFormat {
        /// The stock's.
        stock: Format,
        /// That of what is made.
        made: Format,
    },
    /// An entry for new files is not made: a file is there already that nothing tells of.
    NotNew {
        /// The file of the entry.
        file: String,
    },
    /// Several entries set one place to different values, and the last one stays.
    SetTwice {
        /// The file of the entries.
        file: String,
        /// The place.
        at: String,
    },
    /// There is nothing to hear in the file.
    Silent,
    /// The stock loops, the clip does not.
    LoopLost,
    /// The clip has loop points, and the file has no place for them.
    LoopsNotHeld {
        /// Its container.
        container: String,
        /// Containers that hold loop points.
        holders: Vec<String>,
    },
    /// Much louder or quieter than the stock.
    Level {
        /// By so much, in LU.
        by: f64,
    },
    /// Much longer than the stock.
    Long {
        /// This many times.
        times: f64,
    },
    /// Samples beyond full scale were clipped.
    Overs {
        /// How many.
        samples: u64,
    },
    /// Samples that were not numbers became silence.
    NotNumbers {
        /// How many.
        samples: u64,
    },
    /// Much of left and right cancels in the mono fold.
    Cancels {
        /// How alike they are: 1 is equal, −1 opposite.
        correlation: f64,
    },
    /// The loop that was set is heard at its seam.
    Seam {
        /// How it sounds.
        judged: Judgement,
        /// Whether it was faded into itself.
        crossfaded: bool,
    },
    /// The limiter worked.
    Limited {
        /// By this many dB at most.
        most: f64,
        /// For so long, in seconds.
        seconds: f64,
        /// What it added to the sound meanwhile, as a part of it.
        distortion: f64,
    },
}

impl Notice {
    /// Whether it tells of what differs from the stock.
    pub(crate) fn is_of_difference(&self) -> bool {
        matches!(self, Self::LoopLost | Self::Level { .. } | Self::Long { .. })
    }

    /// Whether it tells of all these slots that they are left.
    pub(crate) fn tells_left(&self, slots: &[&str]) -> bool {
        let told = match self {
            Self::VariantsLeft { left, .. } | Self::SlotsLeft { left, .. } => left,
            Self::NoPrompt { slots } => slots,
            _ => return false,
        };
        slots.iter().all(|slot| told.iter().any(|told| told == slot))
    }
}
