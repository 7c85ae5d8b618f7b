//! Slots in families of variants.

use crate::names::family_of;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// A family of variants, or a slot that stands alone.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Group {
    /// The slot, or what variants share, with `#` where they differ.
    pub name: String,
    /// The slots.
    pub slots: Vec<String>,
    /// What differs in each: `1`, `2`, `3`; nothing for a slot that stands alone.
    pub members: Vec<String>,
}

/// Sorts names into families; a name alone in its form stays itself.
pub fn families<'a>(names: impl IntoIterator<Item = &'a str>) -> Vec<Group> {
    let mut groups: BTreeMap<String, Vec<(String, &str)>> = BTreeMap::new();
    for name in names {
        let (pattern, member) = match family_of(name) {
            Some(family) => (family.pattern, family.member),
            None => (name.to_owned(), String::new()),
        };
        groups.entry(pattern).or_default().push((member, name));
    }
    let group = |(pattern, mut slots): (String, Vec<(String, &str)>)| {
        // 2 before 10.
        slots.sort_by(|(a, _), (b, _)| a.len().cmp(&b.len()).then_with(|| a.cmp(b)));
        let alone = slots.len() == 1;
        Group {
            name: if alone { slots[0].1.to_owned() } else { pattern },
            members: match alone {
                true => Vec::new(),
                false => slots.iter().map(|(member, _)| member.clone()).collect(),
            },
            slots: slots.into_iter().map(|(_, name)| name.to_owned()).collect(),
        }
    };
    let mut all: Vec<Group> = groups.into_iter().map(group).collect();
    all.sort_by(|a, b| a.slots[0].cmp(&b.slots[0]));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn variants_stand_together() {
        let names =
            ["b.wav", "gull_1.wav", "gull_10.wav", "gull_2.wav", "gull_wing.wav", "x_1.wav"];
        let found = families(names);
        let names: Vec<_> = found.iter().map(|g| g.name.as_str()).collect();
        assert_eq!(names, ["b.wav", "gull_#.wav", "gull_wing.wav", "x_1.wav"]);
        assert_eq!(found[1].members, ["1", "2", "10"]);
        assert!(found[3].members.is_empty());
    }
}
