//! The fewest patterns that tell some names from others.

use super::area::cell_of;
use crate::names::family_of;
use crate::sheet::pattern::literal;

/// At most this many patterns that match all of some names and none of others.
pub fn few_patterns(own: &[&str], others: &[&str], most: usize) -> Option<Vec<String>> {
    let mut left: Vec<&str> = own.to_vec();
    let mut patterns = Vec::new();
    while let Some(name) = left.first() {
        let best = candidates(name)
            .into_iter()
            .filter(|c| !others.iter().any(|other| c.holds(other)))
            .rev()
            .max_by_key(|c| left.iter().filter(|n| c.holds(n)).count())?;
        left.retain(|name| !best.holds(name));
        patterns.push(best.pattern);
        if patterns.len() > most {
            return None;
        }
    }
    Some(patterns)
}

/// A pattern, and what it matches.
struct Candidate {
    pattern: String,
    start: String,
    end: String,
    /// Whether `start` is a whole name.
    whole: bool,
    family: Option<String>,
}

impl Candidate {
    fn holds(&self, name: &str) -> bool {
        match &self.family {
            Some(family) => family_of(name).is_some_and(|f| f.pattern == *family),
            None if self.whole => name == self.start,
            None => {
                name.len() >= self.start.len() + self.end.len()
                    && name.starts_with(&self.start)
                    && name.ends_with(&self.end)
                    && !name[self.start.len()..].contains('/')
            }
        }
    }
}

/// Patterns that a name suggests, the narrowest first: itself, its family, its first word, its last.
fn candidates(name: &str) -> Vec<Candidate> {
    let (folder, extension) = cell_of(name);
    let slash = if folder.is_empty() { 0 } else { folder.len() + 1 };
    let dot = if extension.is_empty() { name.len() } else { name.len() - extension.len() - 1 };
    let stem = &name[slash..dot];
    let candidate = |start: &str, end: &str| Candidate {
        pattern: format!("{}*{}", literal(start), literal(end)),
        start: start.to_owned(),
        end: end.to_owned(),
        whole: false,
        family: None,
    };
    let mut all = vec![Candidate {
        pattern: literal(name),
        start: name.to_owned(),
        end: String::new(),
        whole: true,
        family: None,
    }];
    if let Some(family) = family_of(name) {
        // The sign for what differs must not be taken for itself.
        let pattern: Vec<String> = family.pattern.split('#').map(literal).collect();
        all.push(Candidate {
            pattern: pattern.join("#"),
            start: String::new(),
            end: String::new(),
            whole: false,
            family: Some(family.pattern),
        });
    }
    let parts = |c: char| matches!(c, '_' | '-' | ' ' | '(' | '.');
    for (at, _) in stem.match_indices(parts) {
        all.push(candidate(&name[..slash + at + 1], &name[dot..]));
        all.push(candidate(&name[..slash], &name[slash + at..]));
    }
    all
}
