//! One slot of a job: what will be done, or why it cannot be.

use super::Run;
use super::clip;
use super::fitting::{Audience, Fitting, Side};
use crate::digests::Digests;
use crate::disk::Disk;
use crate::error::Result;
use crate::error::internal;
use crate::hash::Hash;
use crate::hash_cache::HashCache;
use crate::job::Placement;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::State;
use crate::names::Key;
use crate::notice::Notice;
use crate::refusal::{OddJob, OddPath, OddSlot};
use crate::sheet::Method;
use crate::sheet::{Accepted, LoopFile, OutsideEncoder, Rule};
use crate::stock::Member;
use crate::target::Aim;
use deft_needle_audio::edit::{Level, Request};
use deft_needle_audio::plan::{Reference, Surveys};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Clip, ENGINE, Error as AudioError, Observer, Plan};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// One slot of a job.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Line {
    /// The slot.
    pub slot: String,
    /// What the ledger calls its file.
    pub key: Key,
    /// The clip, as the job sheet names it.
    pub clip: String,
    /// What will be done.
    pub work: Work,
    /// What the user should know.
    pub notices: Vec<Notice>,
    /// The hash of all that decides the file's bytes.
    #[serde(skip)]
    pub fit_key: Hash,
    /// All that is asked of the file, the rule's part too.
    #[serde(skip)]
    pub request: Request,
    /// What was said of it, the rule's part left aside.
    #[serde(skip)]
    pub said: Request,
    /// What the file must be.
    #[serde(skip)]
    pub demand: Demand,
    /// How the file is made.
    #[serde(skip)]
    pub making: Method,
    /// Where the clip is.
    #[serde(skip)]
    pub input: Input,
    /// Its hash.
    #[serde(skip)]
    pub clip_hash: Hash,
    /// The true stock, where its bytes are at hand.
    #[serde(skip)]
    pub stock: Option<PathBuf>,
    /// What the target's list tells of it.
    #[serde(skip)]
    pub listed: Option<Side>,
    /// Whether the stock is the very file that the list has measured.
    #[serde(skip)]
    pub is_listed: bool,
    /// The digests of its file, where it is made and the sheet's entries ask for them.
    #[serde(skip)]
    pub digests: Option<Digests>,
    /// How the stock is read.
    #[serde(skip)]
    pub stock_hints: Hints,
    /// What a text beside the stock says of its loop.
    #[serde(skip)]
    pub stock_loop: Option<(LoopFile, String)>,
}

/// What is done for a slot.
#[derive(Debug, JsonSchema, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: what the job wants is there.
    Unchanged {
        /// What is there.
        installed: Installed,
    },
    /// The clip is fitted.
    Fit {
        /// How.
        plan: Plan,
    },
    /// The clip is a finished file of a closed format.
    AsIs {
        /// Its size.
        bytes: u64,
    },
    /// The clip is fitted for an outside encoder, which makes the file.
    Encode {
        /// What it is fed.
        plan: Plan,
        /// The encoder.
        encoder: OutsideEncoder,
    },
}

/// What a line is worked out from.
pub struct Sources<'a> {
    /// The ledger's state.
    pub state: &'a State,
    /// Hashes of files.
    pub hash_cache: &'a HashCache,
    /// Where names are looked up.
    pub disk: &'a dyn Disk,
}

impl Run {
    /// What the ledger calls a slot.
    fn key_of(&self, slot: &str, sources: &Sources<'_>) -> Result<Key> {
        match &self.root {
            Some(root) => self.destination.key(slot, sources.state, &root.path, sources.disk),
            None => Ok(Key::new(None, slot)?),
        }
    }

    /// Works out one line.
    ///
    /// # Errors
    /// Whatever keeps the slot from being replaced.
    pub(super) fn line(
        &self,
        placement: &Placement,
        sources: &Sources<'_>,
        observer: &dyn Observer,
    ) -> Result<Line> {
        let (slot, aim) = self.target.aim(&placement.slot)?;
        let (followed, of_links) = self.look_at_links(&slot, placement, aim.rule, sources)?;
        let (slot, aim) = match followed {
            Some(to) => self.target.aim(&to)?,
            None => (slot, aim),
        };
        let key = self.key_of(&slot, sources)?;
        let clip_hash = clip::hash_of(placement, sources.hash_cache)?;
        let (demand, mut notices) = aim.demand(&placement.request, placement.like.as_ref())?;
        notices.extend(of_links);
        let stock = self.stock(&slot, &key, &aim, placement, sources)?;
        let fit_key = self.fit_key(placement, &demand, aim.rule, clip_hash, stock.hash)?;
        if stock.changed {
            let kept = sources.state.slots.get(&key).map_or(0, |known| known.stock.len());
            notices.push(Notice::ChangedSince { kept: kept + 1 });
        }

        let mut line = Line {
            slot,
            key,
            clip: placement.named.clone(),
            work: Work::AsIs { bytes: 0 },
            notices,
            fit_key,
            request: placement.request.clone(),
            said: placement.request.clone(),
            demand,
            making: placement.making.clone(),
            input: placement.clip.clone(),
            clip_hash,
            stock: stock.path,
            listed: aim.listed.and_then(Side::listed),
            is_listed: aim
                .listed
                .is_some_and(|listed| listed.hash.is_some() && listed.hash == stock.hash),
            digests: None,
            stock_hints: aim.rule.hints(),
            stock_loop: self.stock_loop(&placement.slot, sources),
        };
        line.work = match self.unchanged(&line.slot, &line.key, fit_key, sources) {
            Some(installed) => Work::Unchanged { installed },
            None => self.work(&mut line, &aim, observer)?,
        };
        if !placement.name_anyway {
            self.refuse_name(&line, &aim)?;
        }
        Ok(line)
    }

    /// What is under a name must be what the name says; but for what the target's own file under it is, or what the
    /// sheet says of its extensions.
    fn refuse_name(&self, line: &Line, aim: &Aim<'_>) -> Result<()> {
        let (Some(says), Work::Fit { plan }) = (aim.named, &line.work) else {
            return Ok(());
        };
        let holds = plan.to.format.container;
        let extension = line.slot.rsplit_once('.').map_or("", |(_, extension)| extension);
        if holds == says || holds.facts().has_extension(extension) {
            return Ok(());
        }
        let told = |all: &Vec<String>| all.iter().any(|one| one.eq_ignore_ascii_case(extension));
        // The rule of a swap without a sheet is made up from what lies around.
        let by_sheet = aim.rule.like.is_none() && aim.rule.extensions.as_ref().is_some_and(told);
        let listed = aim.listed.and_then(|listed| listed.format()).map(|format| format.container);
        let stock = || line.stock_clip().map(|clip| clip.facts().format.container);
        match by_sheet || listed == Some(holds) || stock() == Some(holds) {
            true => Ok(()),
            false => {
                let (says, holds) = (says.to_string(), holds.to_string());
                Err(OddSlot::NameSays { says, holds }.of(&line.slot))
            }
        }
    }

    /// What is there already, made in just this way.
    fn unchanged(
        &self,
        slot: &str,
        key: &Key,
        fit_key: Hash,
        sources: &Sources<'_>,
    ) -> Option<Installed> {
        let root = self.root.as_ref()?;
        let known = sources.state.slots.get(key)?;
        let (top, expected) = (known.top()?, known.expected());
        let ours = top.installed.job.as_deref() == self.job.layer();
        let path = sources.state.path_of(&root.path, key).ok()?;
        let same = ours
            && top.installed.key == Some(fit_key)
            && sources.hash_cache.hash(&path).is_ok_and(|now| Some(Held::File(now)) == expected)
            && self.has_loop_files(slot, sources);
        same.then(|| top.installed.clone())
    }

    fn work(&self, line: &mut Line, aim: &Aim<'_>, observer: &dyn Observer) -> Result<Work> {
        let closed = *aim.rule.spec.get_ref() == Accepted::Opaque;
        match (&line.making.clone(), &aim.rule.encoder) {
            (Method::AsIs, _) => self.finished(line),
            (Method::Encoder(encoder), _) => self.encoded(line, aim, encoder.clone(), observer),
            (Method::Fit, Some(encoder)) if closed => {
                self.encoded(line, aim, encoder.clone(), observer)
            }
            (Method::Fit, None) if closed => self.finished(line),
            (Method::Fit, _) => self.fitted(line, aim, observer),
        }
    }

    /// A slot of a closed format, by an outside encoder.
    fn encoded(
        &self,
        line: &mut Line,
        aim: &Aim<'_>,
        encoder: OutsideEncoder,
        observer: &dyn Observer,
    ) -> Result<Work> {
        encoder.refuse(self.allow_commands)?;
        let (clip, demand) = (line.open()?, encoder.demand()?);
        let reference =
            Reference { stock: None, lufs: line.stock_lufs(), surveys: Some(&self.surveys) };
        let (request, notices) = aim.ask(&line.request, clip.facts(), reference.lufs.is_some());
        line.notices.extend(notices);
        let edits = &request.edits;
        let fitting = Fitting { clip: &clip, demand: &demand, edits, rule: None, reference };
        let plan = fitting.plan(observer)?;
        line.request = request;
        Ok(Work::Encode { plan, encoder })
    }

    /// A file that goes in as it is, and so must be what the target asks.
    fn finished(&self, line: &Line) -> Result<Work> {
        let path = line.input.stored_at().ok_or(OddJob::NotFile)?;
        let member = Member::of_file(&line.slot, path)?;
        if member.bytes == 0 {
            return Err(OddPath::Empty.of(&line.clip));
        }
        let extension = |path: &Path| path.extension().map(|e| e.to_string_lossy().to_lowercase());
        let named = extension(path) == extension(Path::new(&line.slot));
        if line.making == Method::AsIs && line.input.path().is_some() && !named {
            return Err(OddSlot::OtherExtension { clip: line.clip.clone() }.of(&line.slot));
        }
        match self.target.shortfalls(&line.slot, &member).into_iter().next() {
            None => Ok(Work::AsIs { bytes: member.bytes }),
            Some(short) => Err(AudioError::CannotMeet(short.into()).into()),
        }
    }

    /// Everything that the bytes of the file depend on.
    fn fit_key(
        &self,
        placement: &Placement,
        demand: &Demand,
        rule: &Rule,
        clip: Hash,
        stock: Option<Hash>,
    ) -> Result<Hash> {
        let own = &placement.request;
        let level = own.edits.level.as_ref().or(match own.says("level") || own.says("gain") {
            true => None,
            false => rule.asks.edits.level.as_ref(),
        });
        let like = match level {
            Some(Level::Stock) => stock,
            Some(Level::Like(file)) => Some(Hash::of_file(file)?),
            _ => None,
        };
        let rule_reverse = rule.asks.reverse;
        let rule = (&rule.asks.edits, &rule.encoder);
        let said: Vec<_> = own.said().collect();
        let all = (
            ENGINE,
            clip,
            like,
            &own.edits,
            demand,
            rule,
            own.read_as,
            [own.reverse, rule_reverse],
            said,
            &placement.making,
        );
        let text = serde_json::to_vec(&all).map_err(|error| {
            internal(format!("{} cannot be described: {error}", placement.slot))
        })?;
        Ok(Hash::of(&text))
    }
}

impl Run {
    /// A slot whose clip is fitted.
    fn fitted(&self, line: &mut Line, aim: &Aim<'_>, observer: &dyn Observer) -> Result<Work> {
        let mut clip = line.open()?;
        // What the list has measured need not be measured again.
        let lufs = line.stock_lufs();
        let measured = line.is_listed && lufs.is_some();
        let reference = Reference {
            stock: line.stock.as_deref().filter(|_| !measured),
            lufs,
            surveys: Some(&self.surveys),
        };
        let has_level = reference.stock.is_some() || reference.lufs.is_some();
        let (request, notices) = aim.ask(&line.request, clip.facts(), has_level);
        if request.reverse != line.request.reverse {
            line.request.reverse = request.reverse;
            clip = line.open()?;
        }
        line.notices.extend(notices);
        let edits = &request.edits;
        let fitting =
            Fitting { clip: &clip, demand: &line.demand, edits, rule: Some(aim.rule), reference };
        let known = self.plans.lock().ok().and_then(|plans| plans.get(&line.fit_key).cloned());
        let plan = match known {
            Some(plan) => {
                aim.rule.refuse(&plan, edits)?;
                plan
            }
            None => {
                let plan = fitting.plan(observer)?;
                if let Ok(mut plans) = self.plans.lock() {
                    plans.insert(line.fit_key, plan.clone());
                }
                plan
            }
        };
        line.notices.extend(Notice::of_format(aim, &line.said, plan.to.format));
        line.request = request;
        Ok(Work::Fit { plan })
    }
}

impl Line {
    /// What is done to its clip; nothing where that is a finished file, or what is wanted is there.
    pub fn plan(&self) -> Option<&Plan> {
        match &self.work {
            Work::Fit { plan } | Work::Encode { plan, .. } => Some(plan),
            Work::Unchanged { .. } | Work::AsIs { .. } => None,
        }
    }

    /// Opens its clip.
    ///
    /// # Errors
    /// As [`Clip::open`].
    pub(crate) fn open(&self) -> Result<Clip> {
        Ok(Clip::from_input(self.input.clone(), &self.hints())?)
    }

    /// How its clip is read, and what is made of it.
    pub(crate) fn hints(&self) -> Hints {
        Hints {
            raw: self.request.read_as,
            loop_tags: self.demand.loop_tags.clone(),
            beside: None,
            reverse: self.request.reverse,
        }
    }

    /// How loud the stock is, where the target's list tells.
    fn stock_lufs(&self) -> Option<f64> {
        self.listed.as_ref().and_then(|listed| listed.lufs)
    }

    /// What is replaced: measured where it is at hand, else as the list tells it.
    pub(super) fn before(
        &self,
        surveys: &Surveys,
        audience: &dyn Audience,
        observer: &dyn Observer,
    ) -> Result<Option<Side>> {
        if self.stock.is_none() {
            return Ok(self.listed.clone());
        }
        let known = |clip: Clip| Side::known(&clip, surveys, audience, observer);
        self.stock_clip().map(known).transpose()
    }

    /// What is replaced, with the loop that a file beside it tells. A closed format has nothing that could be
    /// compared.
    pub(super) fn stock_clip(&self) -> Option<Clip> {
        let open = |hints: &Hints| Clip::from_input(Input::file(self.stock.as_ref()?), hints).ok();
        let clip = open(&self.stock_hints)?;
        match self.told_loop(clip.facts().format.rate) {
            Some(range) => open(&Hints { beside: Some(range), ..self.stock_hints.clone() }),
            None => Some(clip),
        }
    }
}
