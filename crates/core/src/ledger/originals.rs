//! What lay in a slot before anything of ours, and the only ways in which that is let go.

use super::record::{Held, Put};
use crate::disk::Attributes;

/// What lay in a slot before anything of ours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Original {
    /// The contents.
    pub held: Held,
    /// What it had beside its contents.
    pub was: Option<Attributes>,
}

/// Leave to let an original go. There are no more ways to get one than those below.
#[derive(Debug)]
pub struct Release(Held);

impl Release {
    /// The very same bytes are in place again; where there were none, there is nothing to lose.
    pub fn in_place(original: Held, now: Held) -> Option<Self> {
        (original == now || original == Held::Nothing).then_some(Self(original))
    }

    /// The user has named the file, and said that this copy of it goes.
    pub fn by_name(copy: Held) -> Self {
        Self(copy)
    }
}

/// The originals of one slot, oldest first; the last one is the stock of today.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Originals(Vec<Original>);

impl Originals {
    /// The stock of today.
    pub fn last(&self) -> Option<&Original> {
        self.0.last()
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &Original> {
        self.0.iter()
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there is none of which a copy must be kept.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|original| original.held == Held::Nothing)
    }

    /// Takes in those that a change has found.
    pub fn keep(&mut self, put: &Put) {
        let original = |held| Original { held, was: put.was.clone() };
        if let Some(aside) = put.aside
            && self.0.iter().all(|known| known.held != aside)
        {
            let at = self.0.len().saturating_sub(1);
            self.0.insert(at, original(aside));
        }
        if let Some(stock) = put.stock {
            // The same contents as the youngest: no copy goes by this.
            self.0.retain(|known| known.held != stock);
            self.0.push(original(stock));
        }
    }

    /// Lets one go.
    pub fn release(&mut self, release: &Release) {
        self.0.retain(|known| known.held != release.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash::Hash;

    #[test]
    fn only_the_very_bytes_in_place_release_an_original() {
        let [one, other] = [b"one", b"two"].map(|bytes| Held::File(Hash::of(bytes)));
        let link = Held::Link(Hash::of(b"one"));
        for (original, now, goes) in [
            (one, one, true),
            (one, other, false),
            (one, link, false),
            (link, one, false),
            (one, Held::Nothing, false),
            (Held::Nothing, other, true),
        ] {
            assert_eq!(Release::in_place(original, now).is_some(), goes, "{original:?} {now:?}");
        }
    }
}
