//! The clip of a line: its hash, and clips that may have been meant.

use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::hash_cache::HashCache;
use crate::job::Placement;
use crate::names::Near;
use crate::refusal::OddJob;
use crate::tree::near_files;

/// The hash of a clip.
pub fn hash_of(placement: &Placement, hash_cache: &HashCache) -> Result<Hash> {
    let Some(path) = placement.clip.stored_at() else {
        let mut bytes = placement.clip.open()?;
        return Hash::of_reader(&mut bytes).map_err(Error::read(placement.clip.name()));
    };
    hash_cache.hash(path).map_err(|error| match (error, near_clip(placement)) {
        (Error::Read { source, .. }, Some(near))
            if source.kind() == std::io::ErrorKind::NotFound =>
        {
            OddJob::NoClip { clip: placement.named.clone(), near }.into()
        }
        (error, _) => error,
    })
}

/// Clips that may have been meant.
fn near_clip(placement: &Placement) -> Option<Vec<Near>> {
    let near = near_files(placement.clip.path()?);
    (!near.is_empty()).then_some(near)
}
