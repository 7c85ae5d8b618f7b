//! One slot of a job: what will be done, or why it cannot be.

use super::Run;
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::install::Warning;
use crate::install::slot::{find_stock, refuse_link};
use crate::job::Placement;
use crate::ledger::record::{Held, Installed};
use crate::ledger::state::State;
use crate::names::Key;
use crate::root::{look, refuse_odd};
use crate::sheet::{Asked, New, Rule};
use crate::stamps::Stamps;
use crate::stock::Member;
use crate::target::Aim;
use deft_needle_audio::edit::Level;
use deft_needle_audio::plan::{Reference, plan_clip};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Clip, ENGINE, Edits, Error as AudioError, Observer, Plan};
use serde::Serialize;
use std::path::PathBuf;

/// One slot of a job.
#[derive(Debug, Serialize)]
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
    pub notes: Vec<String>,
    /// The hash of all that decides the file's bytes.
    #[serde(skip)]
    pub fit_key: Hash,
    /// All that is done to the clip, the rule's part too.
    #[serde(skip)]
    pub edits: Edits,
    /// Where the clip is.
    #[serde(skip)]
    pub clip_path: PathBuf,
    /// Its hash.
    #[serde(skip)]
    pub clip_hash: Hash,
    /// How it is read.
    #[serde(skip)]
    pub hints: Hints,
    /// How loud the stock is, in LUFS, where the target's list tells.
    #[serde(skip)]
    pub stock_lufs: Option<f64>,
}

/// What is done for a slot.
#[derive(Debug, Serialize)]
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
        /// The command.
        command: Vec<String>,
    },
}

/// What a line is worked out from.
pub struct Sources<'a> {
    /// The ledger's state.
    pub state: &'a State,
    /// Hashes of files.
    pub stamps: &'a Stamps,
    /// Where names are looked up.
    pub disk: &'a dyn Disk,
}

impl Run {
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
        let key = match &self.root {
            Some(root) => self.ground.key(&slot, sources.state, &root.path, sources.disk)?,
            None => Key::new(None, &slot)?,
        };
        let clip_hash = sources.stamps.hash(&placement.clip).map_err(|error| {
            let near = near_clip(placement);
            match (error, near) {
                (Error::Read { source, .. }, Some(near))
                    if source.kind() == std::io::ErrorKind::NotFound =>
                {
                    Error::refused(format!("there is no clip {}", placement.named), near)
                }
                (error, _) => error,
            }
        })?;
        let ruled = aim.rule.demand().unwrap_or_else(|| deft_needle_audio::Spec::ANY.into());
        let demand = placement.options.demand(ruled)?;
        let hints = Hints { raw: placement.options.read_as, loop_tags: demand.loop_tags.clone() };
        let stock = self.stock(&slot, &key, &aim, sources)?;
        let fit_key = self.fit_key(placement, &demand, aim.rule, clip_hash, stock.hash)?;
        let mut line = Line {
            slot,
            key,
            clip: placement.named.clone(),
            work: Work::AsIs { bytes: 0 },
            notes: Vec::new(),
            fit_key,
            edits: placement.options.edits.clone(),
            clip_path: placement.clip.clone(),
            clip_hash,
            hints,
            stock_lufs: aim.listed.and_then(|listed| listed.lufs),
        };
        if stock.changed {
            let kept = sources.state.slots.get(&line.key);
            let kept = kept.map_or(0, |known| known.stock.len()) + 1;
            line.notes.push(Warning::ChangedSince { kept }.to_string());
        }
        line.work = match self.unchanged(&line.key, fit_key, sources) {
            Some(installed) => Work::Unchanged { installed },
            None => self.work(&mut line, (&demand, placement.as_is), &aim, &stock, observer)?,
        };
        Ok(line)
    }

    /// What is there already, made in just this way.
    fn unchanged(&self, key: &Key, fit_key: Hash, sources: &Sources<'_>) -> Option<Installed> {
        let root = self.root.as_ref()?;
        let top = sources.state.slots.get(key)?.top()?;
        let ours = top.installed.job.as_deref() == Some(&self.job.name);
        let path = sources.state.path_of(&root.path, key).ok()?;
        let same = ours
            && top.installed.key == Some(fit_key)
            && sources.stamps.hash(&path).is_ok_and(|now| Held::File(now) == top.held);
        same.then(|| top.installed.clone())
    }

    fn work(
        &self,
        line: &mut Line,
        (demand, as_is): (&Demand, bool),
        aim: &Aim<'_>,
        stock: &Stock,
        observer: &dyn Observer,
    ) -> Result<Work> {
        if *aim.rule.spec.get_ref() == Asked::Opaque && !as_is {
            return self.closed(line, aim.rule, observer);
        }
        if as_is {
            return self.finished(line);
        }
        let clip = Clip::from_input(Input::file(&line.clip_path), &line.hints)?;
        let reference = Reference { stock: stock.path.as_deref(), lufs: line.stock_lufs };
        let has_level = reference.stock.is_some() || reference.lufs.is_some();
        line.notes.extend(aim.fill_in(&mut line.edits, clip.facts(), has_level));
        let plan = plan_clip(&clip, demand, &line.edits, reference, observer)?;
        aim.rule.refuse(&plan)?;
        Ok(Work::Fit { plan })
    }

    /// A slot of a closed format: by an outside encoder, or a finished file.
    fn closed(&self, line: &mut Line, rule: &Rule, observer: &dyn Observer) -> Result<Work> {
        let Some(encoder) = &rule.encoder else {
            return self.finished(line);
        };
        if !self.allow_commands {
            return Err(Error::refused(
                format!("this would run: {}", encoder.command.join(" ")),
                "add --allow-commands if you trust it",
            ));
        }
        let clip = Clip::from_input(Input::file(&line.clip_path), &line.hints)?;
        let demand = crate::encoder::feed(&encoder.feed)?;
        let plan = plan_clip(&clip, &demand, &line.edits, Reference::default(), observer)?;
        Ok(Work::Encode { plan, command: encoder.command.clone() })
    }

    /// A file that goes in as it is, and so must be what the target asks.
    fn finished(&self, line: &Line) -> Result<Work> {
        let member = Member::of_file(&line.slot, &line.clip_path)?;
        match self.target.shortfalls(&line.slot, &member).into_iter().next() {
            None => Ok(Work::AsIs { bytes: member.bytes }),
            Some(what) => Err(AudioError::CannotMeet {
                what,
                instead: "finish the file with the maker's tools as the sheet asks".to_owned(),
            }
            .into()),
        }
    }

    /// The true stock of a slot.
    fn stock(&self, slot: &str, key: &Key, aim: &Aim<'_>, sources: &Sources<'_>) -> Result<Stock> {
        let Some(root) = &self.root else {
            return Ok(Stock::default());
        };
        let known = sources.state.key(&root.path, None, slot, sources.disk)?;
        let place = look(&root.path, known.within(), sources.disk)?;
        refuse_odd(&place)?;
        refuse_link(&place)?;
        // Where it is put may be another place, as of an overlay.
        let folder = sources.state.root_of(&root.path, key)?;
        let there = look(&folder, key.within(), sources.disk)?;
        refuse_odd(&there)?;
        refuse_link(&there)?;
        let path = place.path;
        let top = sources.state.slots.get(&known).and_then(|known| Some((known, known.top()?)));
        // Where our own file is there, the ledger knows the stock without a look at it.
        if let Some((known, top)) = top
            && path.is_file()
            && sources.stamps.hash(&path).is_ok_and(|now| Held::File(now) == top.held)
            && let Some(Held::File(hash)) = known.original()
        {
            let kept = crate::ledger::kept_in(&root.ledger, hash);
            return Ok(Stock {
                path: Some(kept).filter(|kept| kept.is_file()),
                hash: Some(hash),
                changed: false,
            });
        }
        let (stock, changed) = find_stock(root, sources.state, &known, &path)?;
        let here = sources.state.slots.get(key).is_some_and(|known| known.top().is_some());
        let may_be_new = match aim.rule.new {
            New::Never => false,
            New::Listed => self.target.slots.is_listed(slot),
            New::Any => true,
        };
        if stock.is_none()
            && !here
            && !may_be_new
            && !self.ground.overlay
            && self.ground.archive.is_none()
        {
            return Err(Error::refused(
                format!("there is no {slot} in {}", root.path.display()),
                "the sheet says that this folder takes no additions; check the slot's name",
            ));
        }
        let hash = stock.as_ref().map(|path| sources.stamps.hash(path)).transpose()?;
        Ok(Stock { path: stock, hash, changed })
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
        let edits = &placement.options.edits;
        let ruled = edits.level.is_none() && edits.gain.is_none();
        let like = match &edits.level {
            Some(Level::Stock) => stock,
            Some(Level::Like(file)) => Some(Hash::of_file(file)?),
            _ if ruled && rule.level == Some(Level::Stock) => stock,
            _ => None,
        };
        let rule = (
            &rule.route,
            rule.longest.map(|time| time.to_string()),
            rule.loop_multiple,
            &rule.level,
            &rule.encoder,
        );
        let read_as = placement.options.read_as.map(|format| format.to_string());
        let all = (ENGINE, clip, like, edits, demand, rule, read_as);
        let text = serde_json::to_vec(&all).map_err(|error| {
            Error::refused(format!("{} cannot be told: {error}", placement.slot), "report this")
        })?;
        Ok(Hash::of(&text))
    }
}

/// What lies below everything of ours.
#[derive(Debug, Default)]
struct Stock {
    path: Option<PathBuf>,
    hash: Option<Hash>,
    /// Whether somebody has put another file there since.
    changed: bool,
}

/// A clip that may have been meant.
fn near_clip(placement: &Placement) -> Option<String> {
    let folder = placement.clip.parent()?;
    let name = placement.clip.file_name()?.to_string_lossy().into_owned();
    let names = crate::tree::names_in(folder);
    let near = crate::names::nearest(&name, names.iter().map(String::as_str), 3);
    crate::names::did_you_mean(&near)
}
