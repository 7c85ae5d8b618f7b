//! Clips dealt to slots.

use super::{Job, Replace};
use crate::error::{Error, Result};
use crate::names::folded;
use crate::refusal::{OddLine, OddSlot, Refusal};
use crate::run::Notice;
use crate::sheet::{Links, OutsideEncoder, Pattern};
use crate::slots::families;
use crate::target::Target;
use crate::template::values;
use deft_needle_audio::Invalid;
use deft_needle_audio::edit::Request;
use deft_needle_audio::read::Input;
use deft_needle_audio::spec::Demand;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use toml::Spanned;

/// One clip on its way to one slot.
#[derive(Debug, Clone)]
pub struct Placement {
    /// The slot, relative to the main root.
    pub slot: String,
    /// The clip.
    pub clip: Input,
    /// The clip, as the job sheet names it.
    pub named: String,
    /// What is done to it, and what it must become.
    pub request: Request,
    /// What a model file asks, against the sheet.
    pub like: Option<Demand>,
    /// How the file is made.
    pub making: Making,
    /// Whether a file may be put where none was, whatever the sheet says.
    pub new: bool,
    /// What happens to the slot where it is a link, whatever the sheet says.
    pub link: Option<Links>,
    /// Values for templates, the replacement's own.
    pub values: BTreeMap<String, Value>,
}

/// How a slot's file is made of a clip.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Making {
    /// The clip is fitted; for a closed format, by the encoder that its rule names.
    #[default]
    Fit,
    /// The clip is a finished file that goes in byte for byte.
    AsIs,
    /// The clip is fitted for this encoder, which makes the file.
    Encoder(OutsideEncoder),
}

/// What a job deals out.
#[derive(Debug, Default)]
pub struct Dealt {
    /// In the order of the job sheet.
    pub placements: Vec<Placement>,
    /// What is wrong, each with its place; the rest goes on.
    pub faults: Vec<Error>,
    /// What the user should know.
    pub notices: Vec<Notice>,
}

/// What a replacement deals: a clip or one piece of it.
struct Card {
    clip: PathBuf,
    named: String,
    piece: Option<u32>,
}

impl Job {
    /// Deals every clip to its slots.
    pub fn deal(&self, target: &Target) -> Dealt {
        let mut dealt = Dealt::default();
        let mut taken: HashMap<String, String> = HashMap::new();
        for replace in &self.replaces {
            if replace.get_ref().prompts.is_some() {
                continue;
            }
            match self.deal_one(replace, target, &mut dealt.notices) {
                Err(error) => dealt.faults.push(error),
                Ok(placements) => {
                    for placement in placements {
                        self.add(placement, replace, &mut taken, &mut dealt);
                    }
                }
            }
        }
        dealt
    }

    /// Takes a placement in, unless another one goes to the same slot.
    pub(crate) fn add(
        &self,
        placement: Placement,
        replace: &Spanned<Replace>,
        taken: &mut HashMap<String, String>,
        dealt: &mut Dealt,
    ) {
        match taken.insert(folded(&placement.slot), placement.named.clone()) {
            None => dealt.placements.push(placement),
            Some(other) => {
                let odd = OddLine::Twice(placement.slot, other);
                dealt.faults.push(self.fault(replace, odd).into());
            }
        }
    }

    fn deal_one(
        &self,
        replace: &Spanned<Replace>,
        target: &Target,
        notices: &mut Vec<Notice>,
    ) -> Result<Vec<Placement>> {
        let request = self.request(replace)?;
        let slots = self.slots_of(replace, target)?;
        let cards = self.cards(replace.get_ref());
        if cards.len() > slots.len() {
            let odd = OddLine::Dealt {
                cards: cards.len(),
                pieces: !replace.get_ref().pieces.is_empty(),
                slots: slots.len(),
                named: replace.get_ref().slots.clone(),
            };
            return Err(self.fault(replace, odd).into());
        }
        if cards.len() > 1 && !slots.len().is_multiple_of(cards.len()) {
            notices.push(Notice::Uneven {
                slots: replace.get_ref().slots.clone(),
                dealt: cards.len(),
                pieces: !replace.get_ref().pieces.is_empty(),
                to: slots.len(),
            });
        }
        let making = match (&replace.get_ref().encoder, replace.get_ref().as_is) {
            (Some(encoder), _) => Making::Encoder(encoder.clone()),
            (None, true) => Making::AsIs,
            (None, false) => Making::Fit,
        };
        let values = values(&replace.get_ref().values);
        let place = |(slot, card): (String, &Card)| {
            let mut request = request.clone();
            request.edits.piece = card.piece.or(request.edits.piece);
            Placement {
                slot,
                clip: Input::file(&card.clip),
                named: card.named.clone(),
                request,
                like: None,
                making: making.clone(),
                new: false,
                link: replace.get_ref().link,
                values: values.clone(),
            }
        };
        Ok(slots.into_iter().zip(cards.iter().cycle()).map(place).collect())
    }

    fn cards(&self, replace: &Replace) -> Vec<Card> {
        let pieces: Vec<Option<u32>> = match replace.pieces.as_slice() {
            [] => vec![None],
            pieces => pieces.iter().copied().map(Some).collect(),
        };
        let card = |clip: &PathBuf, piece: Option<u32>| Card {
            clip: self.beside(clip),
            named: clip.to_string_lossy().into_owned(),
            piece,
        };
        let clips = replace.clips.iter();
        clips.flat_map(|clip| pieces.iter().map(move |piece| card(clip, *piece))).collect()
    }

    /// The slots that a replacement names, variants in their order.
    fn slots_of(&self, replace: &Spanned<Replace>, target: &Target) -> Result<Vec<String>> {
        let mut all: Vec<String> = Vec::new();
        let wrong = |refusal: Refusal| Error::from(self.fault(replace, refusal));
        for typed in &replace.get_ref().slots {
            let is_pattern = typed.contains(['*', '?', '#', '[']);
            if !is_pattern || target.slots.has(typed) {
                let (slot, _) = target.aim(typed).map_err(|error| match error {
                    Error::Refused(refusal) => wrong(*refusal),
                    other => other,
                })?;
                all.push(slot);
                continue;
            }
            let pattern: Pattern =
                typed.parse().map_err(|invalid: Invalid| self.fault(replace, invalid))?;
            let matching = target.slots.names().filter(|name| pattern.matches(name));
            let groups = families(matching);
            if groups.is_empty() {
                let (target, near) = (target.sheet.name.clone(), target.near(typed));
                let why = OddSlot::Unmatched { target, near };
                return Err(wrong(Refusal::Slot { slot: typed.clone(), why }));
            }
            for group in groups {
                for slot in group.slots {
                    if !all.contains(&slot) {
                        target.aim(&slot)?;
                        all.push(slot);
                    }
                }
            }
        }
        Ok(all)
    }
}
