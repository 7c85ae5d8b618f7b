//! Floating point clips may hold samples that are not numbers; they become silence, and are counted.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::survey::make_finite;
use crate::units::SampleRate;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Lets only numbers through.
pub struct Finite<S> {
    source: S,
    replaced: Arc<AtomicU64>,
}

impl<S: Source> Finite<S> {
    /// Counts what it replaces into `replaced`.
    pub fn new(source: S, replaced: Arc<AtomicU64>) -> Self {
        Self { source, replaced }
    }
}

impl<S: Source> Source for Finite<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.source.channels()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        self.source.next(block)?;
        self.replaced.fetch_add(make_finite(block), Ordering::Relaxed);
        Ok(())
    }
}
