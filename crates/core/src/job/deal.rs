//! Clips dealt to slots.

use super::{Job, Replace};
use crate::error::{Error, Result};
use crate::limits;
use crate::names::{folded, natural};
use crate::notice::Notice;
use crate::refusal::{Many, OddLine, OddList, OddSlot, OddText, Refusal};
use crate::rows::{Row, place_of, rows, text_of, usual_delimiter};
use crate::sheet::{Column, Fault, Links, Method, OutsideEncoder, Pattern};
use crate::slots::families;
use crate::stock::input_at;
use crate::target::Target;
use crate::template::{Names, values};
use crate::tree::files_below;
use deft_needle_audio::Invalid;
use deft_needle_audio::edit::Request;
use deft_needle_audio::read::Input;
use deft_needle_audio::spec::Demand;
use serde_json::Value;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use toml::Spanned;

/// Where a column of a list stands, from 0.
pub(super) fn column_of(list: &Path, column: &Column, heads: &[String]) -> Result<usize> {
    place_of(column, heads).ok_or_else(|| {
        Fault::whole(list, OddList::Column(column.to_string(), heads.to_vec())).into()
    })
}

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
    pub making: Method,
    /// Whether a file may be put where none was, whatever the sheet says.
    pub new: bool,
    /// Whether its name may say something else than it holds.
    pub name_anyway: bool,
    /// What happens to the slot where it is a link, whatever the sheet says.
    pub link: Option<Links>,
    /// Values for templates, the replacement's own.
    pub values: BTreeMap<String, Value>,
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
#[derive(Debug, Clone)]
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
        if self.replaces.len() > limits::SLOTS {
            let odd = OddText::TooMany(Many::Slots, limits::SLOTS);
            dealt.faults.push(Fault::whole(self.path(), odd).into());
            return dealt;
        }
        for replace in &self.replaces {
            if dealt.placements.len() > limits::SLOTS {
                let odd = OddText::TooMany(Many::Slots, limits::SLOTS);
                dealt.faults.insert(0, Fault::whole(self.path(), odd).into());
                break;
            }
            // Whoever has so much to put right sees the rest then.
            if dealt.faults.len() > limits::FAULTS {
                break;
            }
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
        let pairs = self.pairs(replace, target, notices)?;
        let making = match (&replace.get_ref().encoder, replace.get_ref().as_is) {
            (Some(encoder), _) => Method::Encoder(OutsideEncoder {
                folder: Some(self.folder().to_owned()),
                ..encoder.clone()
            }),
            (None, true) => Method::AsIs,
            (None, false) => Method::Fit,
        };
        let values = values(&replace.get_ref().values);
        let mut inputs: HashMap<PathBuf, Input> = HashMap::new();
        let mut place = |(slot, card): (String, Card)| {
            let input = match inputs.get(&card.clip) {
                Some(input) => input.clone(),
                None => inputs.entry(card.clip.clone()).or_insert(input_at(&card.clip)?).clone(),
            };
            let mut request = request.clone();
            request.edits.piece = card.piece.or(request.edits.piece);
            Ok(Placement {
                slot,
                clip: input,
                named: card.named,
                request,
                like: None,
                making: making.clone(),
                new: false,
                name_anyway: replace.get_ref().name_anyway,
                link: replace.get_ref().link,
                values: values.clone(),
            })
        };
        pairs.into_iter().map(&mut place).collect()
    }

    /// Every slot with what goes there.
    fn pairs(
        &self,
        replace: &Spanned<Replace>,
        target: &Target,
        notices: &mut Vec<Notice>,
    ) -> Result<Vec<(String, Card)>> {
        if let Some(table) = &replace.get_ref().table {
            return self.rows(replace, &self.beside(table), target);
        }
        let cards = self.cards(replace)?;
        if replace.get_ref().slots.iter().any(|slot| slot.contains("{clip.")) {
            return self.named_after(replace, cards, target);
        }
        let slots = self.slots_of(replace, target)?;
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
        Ok(slots.into_iter().zip(cards.into_iter().cycle()).collect())
    }

    /// Slots that are named after their clips, as in `alerts/{clip.stem}.aiff`.
    fn named_after(
        &self,
        replace: &Spanned<Replace>,
        cards: Vec<Card>,
        target: &Target,
    ) -> Result<Vec<(String, Card)>> {
        let mut all = Vec::new();
        for (number, card) in (1u64..).zip(cards) {
            let file = card.clip.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let (stem, extension) = file.rsplit_once('.').unwrap_or((&file, ""));
            let mut names = Names::default();
            names.set("clip.name", file.as_str());
            names.set("clip.stem", stem);
            names.set("clip.extension", extension);
            names.set("clip.number", number);
            for slot in &replace.get_ref().slots {
                let slot = names.text(slot);
                let slot = slot.map_err(|odd| self.fault(replace, OddText::from(odd)))?;
                all.push((self.aimed(replace, target, &slot)?, card.clone()));
            }
        }
        Ok(all)
    }

    /// The rows of a table with the columns `slot` and `clip`; clips lie beside the table.
    fn rows(
        &self,
        replace: &Spanned<Replace>,
        table: &Path,
        target: &Target,
    ) -> Result<Vec<(String, Card)>> {
        let text = text_of(table)?;
        let mut rows = rows(table, &text, usual_delimiter(table, &text), 0)?.into_iter();
        let heads = rows.next().map_or(Vec::new(), |row| row.cells);
        let place = |name: &str| column_of(table, &Column::Named(name.to_owned()), &heads);
        let (slot, clip) = (place("slot")?, place("clip")?);
        let folder = table.parent().unwrap_or(Path::new(""));
        let mut all = Vec::new();
        for Row { cells, .. } in rows {
            let cell = |at: usize| cells.get(at).map_or("", String::as_str);
            let (slot, clip) = (cell(slot), cell(clip));
            // A row without a clip leaves its slot alone.
            if slot.is_empty() || clip.is_empty() {
                continue;
            }
            let card = Card {
                clip: folder.join(clip.replace('\\', "/")),
                named: clip.to_owned(),
                piece: None,
            };
            all.push((self.aimed(replace, target, slot)?, card));
        }
        Ok(all)
    }

    /// The slot of this name.
    fn aimed(&self, replace: &Spanned<Replace>, target: &Target, slot: &str) -> Result<String> {
        let aimed = target.aim(slot).map_err(|error| match error {
            Error::Refused(refusal) => self.fault(replace, *refusal).into(),
            other => other,
        });
        aimed.map(|(slot, _)| slot)
    }

    /// The clips of a replacement; a pattern means all files that it matches, as people sort them.
    fn clips(&self, replace: &Spanned<Replace>) -> Result<Vec<PathBuf>> {
        let mut all = Vec::new();
        for clip in &replace.get_ref().clips {
            let typed = clip.to_string_lossy().replace('\\', "/");
            if !typed.contains(['*', '?', '[']) || self.beside(clip).exists() {
                all.push(clip.clone());
                continue;
            }
            let pattern: Pattern =
                typed.parse().map_err(|invalid: Invalid| self.fault(replace, invalid))?;
            let fixed = typed.find(['*', '?', '[']).unwrap_or_default();
            let folder = typed[..fixed].rsplit_once('/').map_or("", |(folder, _)| folder);
            let base = self.beside(Path::new(folder));
            let mut found: Vec<String> = Vec::new();
            if base.is_dir() {
                for file in files_below(&base)? {
                    let below = file.strip_prefix(&base).unwrap_or(&file).to_string_lossy();
                    let below = below.replace(std::path::MAIN_SEPARATOR, "/");
                    let name = if folder.is_empty() { below } else { format!("{folder}/{below}") };
                    found.extend(Some(name).filter(|name| pattern.matches(name)));
                }
            }
            if found.is_empty() {
                return Err(self.fault(replace, OddLine::NoClips(typed)).into());
            }
            found.sort_by(|a, b| natural(&folded(a), &folded(b)));
            all.extend(found.into_iter().map(PathBuf::from));
        }
        Ok(all)
    }

    fn cards(&self, replace: &Spanned<Replace>) -> Result<Vec<Card>> {
        let pieces: Vec<Option<u32>> = match replace.get_ref().pieces.as_slice() {
            [] => vec![None],
            pieces => pieces.iter().copied().map(Some).collect(),
        };
        let card = |clip: &PathBuf, piece: Option<u32>| Card {
            clip: self.beside(clip),
            named: clip.to_string_lossy().into_owned(),
            piece,
        };
        let clips = self.clips(replace)?;
        let cards =
            clips.iter().flat_map(|clip| pieces.iter().map(move |piece| card(clip, *piece)));
        Ok(cards.collect())
    }

    /// The slots that a replacement names, variants in their order.
    fn slots_of(&self, replace: &Spanned<Replace>, target: &Target) -> Result<Vec<String>> {
        let mut all: Vec<String> = Vec::new();
        let mut seen: HashSet<String> = HashSet::new();
        let wrong = |refusal: Refusal| Error::from(self.fault(replace, refusal));
        for typed in &replace.get_ref().slots {
            let is_pattern = typed.contains(['*', '?', '#', '[']);
            if !is_pattern || target.slots.has(typed) {
                let slot = self.aimed(replace, target, typed)?;
                seen.insert(slot.clone());
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
                    if seen.insert(slot.clone()) {
                        target.aim(&slot)?;
                        all.push(slot);
                    }
                }
            }
        }
        Ok(all)
    }
}
