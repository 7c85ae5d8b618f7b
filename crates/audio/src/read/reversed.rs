//! A clip that is played from its last frame to its first.
//!
//! No container can be decoded backwards, so the frames are written to a private file when they are asked for the
//! first time, and read from its end.

use super::spool::{Order, Spool};
use super::{Body, Handle, Opened, Packets, Stream};
use crate::block::Source;
use crate::error::{Error, Result};
use crate::spec::Facts;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// The same clip the other way round: its loops and markers lie where their sound lies then.
pub fn reversed(opened: Opened) -> Opened {
    let Opened { mut facts, body } = opened;
    let frames = facts.frames;
    for looped in &mut facts.loops {
        looped.range = looped.range.reversed(frames);
    }
    facts.loops.sort_by_key(|looped| looped.range.start);
    facts.markers.retain(|marker| marker.frame <= frames);
    for marker in &mut facts.markers {
        marker.frame = frames - marker.frame;
    }
    facts.markers.sort_by_key(|marker| marker.frame);
    facts.reversed = true;
    Opened { facts, body: Box::new(Reversed { body, spool: Mutex::new(None) }) }
}

/// What lies behind it.
#[derive(Debug)]
struct Reversed {
    body: Box<dyn Body>,
    spool: Mutex<Option<Arc<Spool>>>,
}

impl Body for Reversed {
    fn frames(&self, file: Handle, path: &Path, facts: &Facts) -> Result<Box<dyn Source>> {
        let wrong = |source| Error::Read { path: path.to_owned(), source };
        let mut spool = self.spool.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let spool = match &*spool {
            Some(spool) => Arc::clone(spool),
            None => {
                let made =
                    Spool::of(&mut *self.body.frames(file, path, facts)?, facts, true, wrong)?;
                Arc::clone(spool.insert(Arc::new(made)))
            }
        };
        spool.frames(Order::Last, facts, path)
    }

    fn packets(&self, file: Handle, path: &Path) -> Result<Box<dyn Packets>> {
        self.body.packets(file, path)
    }

    fn stream(&self) -> Stream {
        self.body.stream()
    }
}
