//! What a user should know of a job or a file, and that keeps nothing from being done.

use super::fitting::Side;
use crate::sheet::Size;
use crate::target::Aim;
use deft_needle_audio::Spec;
use deft_needle_audio::clip::Loop;
use deft_needle_audio::edit::{CutEdit, LoopEdit, Overruled, Request};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::seam::{Judgement, Verdict, judge};
use deft_needle_audio::spec::{Format, Kind};
use deft_needle_audio::units::{FrameRange, SampleRate};
use deft_needle_audio::{Clip, Edits, Error as AudioError};
use schemars::JsonSchema;
use serde::Serialize;

/// Louder or quieter than the stock by this is worth a notice, in LU.
const LEVEL_APART: f64 = 6.0;
/// This many times the stock's length is worth a notice.
const TIMES_LONG: f64 = 4.0;
/// Below this correlation a mono fold loses most of what it is made of.
const OPPOSED: f64 = -0.3;

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
    pub(super) fn is_of_difference(&self) -> bool {
        matches!(self, Self::LoopLost | Self::Level { .. } | Self::Long { .. })
    }

    /// Whether it tells of all these slots that they are left.
    pub(super) fn tells_left(&self, slots: &[&str]) -> bool {
        let told = match self {
            Self::VariantsLeft { left, .. } | Self::SlotsLeft { left, .. } => left,
            Self::NoPrompt { slots } => slots,
            _ => return false,
        };
        slots.iter().all(|slot| told.iter().any(|told| told == slot))
    }

    /// What rendering found.
    pub(super) fn of_outcome(outcome: &Outcome, rate: SampleRate) -> Vec<Self> {
        let mut all = Vec::new();
        if outcome.overs > 0 {
            all.push(Self::Overs { samples: outcome.overs });
        }
        if outcome.not_numbers > 0 {
            all.push(Self::NotNumbers { samples: outcome.not_numbers });
        }
        if let Some(correlation) = outcome.correlation.filter(|c| *c < OPPOSED) {
            all.push(Self::Cancels { correlation });
        }
        if outcome.limited.frames > 0 {
            let (most, seconds) = (outcome.limited.most, outcome.limited.seconds(rate));
            let distortion = outcome.limited.distortion;
            all.push(Self::Limited { most, seconds, distortion });
        }
        all
    }

    /// A seam that is heard, where the edits set the loop of the written file.
    pub(super) fn of_seam(written: &Clip, edits: &Edits) -> Result<Option<Self>, AudioError> {
        let named = !matches!(edits.looped, None | Some(LoopEdit::None));
        let smoothed = edits.crossfade.is_some() || edits.loop_snap.is_some();
        if !named && !smoothed && edits.cut != Some(CutEdit::Seam) {
            return Ok(None);
        }
        let facts = written.facts();
        let whole = FrameRange { start: 0, end: facts.frames };
        let own = facts.loops.first().copied().unwrap_or(Loop::endless(whole));
        // What turns back has no seam.
        if !own.direction.is_forward() {
            return Ok(None);
        }
        let range = own.range;
        // What is too short for an ear is left to the player.
        let judged = match judge(written, range) {
            Err(AudioError::CannotMeet(_)) => return Ok(None),
            judged => judged?,
        };
        // A codec's own noise is another one on each side of a seam.
        let heard = match facts.format.encoding.codec.kind() {
            Kind::Lossy => judged.verdict == Verdict::Bad,
            _ => judged.verdict != Verdict::Good,
        };
        let crossfaded = edits.crossfade.is_some();
        Ok(heard.then_some(Self::Seam { judged, crossfaded }))
    }

    /// Another format than the listed stock's, where nobody asked for it on the command line or in a job.
    pub fn of_format(aim: &Aim<'_>, asked: &Request, made: Format) -> Option<Self> {
        let stock = aim.listed?.format()?;
        // A quality is how it is made, and no property that a listed file tells.
        let same = Spec::exactly(made).accepts(stock) || Spec::exactly(stock).accepts(made);
        (!same && asked.spec.is_none()).then_some(Self::OtherFormat { stock, made })
    }

    /// In what the new file differs much from the stock.
    pub(super) fn of_difference(before: &Side, after: &Side) -> Vec<Self> {
        let mut all = Vec::new();
        if before.loops && !after.loops {
            all.push(Self::LoopLost);
        }
        if let (Some(before), Some(after)) = (before.lufs, after.lufs)
            && (after - before).abs() >= LEVEL_APART
        {
            all.push(Self::Level { by: after - before });
        }
        let times = after.seconds / before.seconds;
        if times.is_finite() && times >= TIMES_LONG {
            all.push(Self::Long { times });
        }
        all
    }
}
