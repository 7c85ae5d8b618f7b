//! Variants: slots that a target takes turns with, told by a number, a letter or a number in brackets.

/// A family of variants and one member's place in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Family {
    /// The name with `#` where the members differ: `sfx/gull_#.ogg`.
    pub pattern: String,
    /// What stands there in this member.
    pub member: String,
}

/// The family that a name belongs to by its form: digits at the end of the stem, a single letter
/// behind `-` or `_`, or a number in brackets.
pub fn family_of(name: &str) -> Option<Family> {
    let (folder, file) = name.rsplit_once('/').unwrap_or(("", name));
    let (stem, extension) = file.split_once('.').unwrap_or((file, ""));
    let (before, member, after) =
        bracketed(stem).or_else(|| numbered(stem)).or_else(|| lettered(stem))?;
    let slash = if folder.is_empty() { "" } else { "/" };
    let dot = if extension.is_empty() { "" } else { "." };
    Some(Family {
        pattern: format!("{folder}{slash}{before}#{after}{dot}{extension}"),
        member: member.to_owned(),
    })
}

fn bracketed(stem: &str) -> Option<(&str, &str, &str)> {
    let inner = stem.strip_suffix(')')?;
    let open = inner.rfind('(')?;
    let member = &inner[open + 1..];
    let number = !member.is_empty() && member.bytes().all(|b| b.is_ascii_digit());
    number.then_some((&stem[..=open], member, ")"))
}

fn numbered(stem: &str) -> Option<(&str, &str, &str)> {
    let before = stem.trim_end_matches(|c: char| c.is_ascii_digit());
    let member = &stem[before.len()..];
    (!member.is_empty() && !before.is_empty()).then_some((before, member, ""))
}

fn lettered(stem: &str) -> Option<(&str, &str, &str)> {
    let cut = stem.rfind(['-', '_'])? + 1;
    let member = &stem[cut..];
    let letter = member.len() == 1 && member.bytes().all(|b| b.is_ascii_alphabetic());
    (letter && cut > 1).then_some((&stem[..cut], member, ""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn families_by_form() {
        for (name, pattern, member) in [
            ("sfx/gull_1.ogg", "sfx/gull_#.ogg", "1"),
            ("TICK02.PRM", "TICK#.PRM", "02"),
            ("bell-a.wav", "bell-#.wav", "a"),
            ("step (12).wav", "step (#).wav", "12"),
            ("noext7", "noext#", "7"),
        ] {
            let family = family_of(name).unwrap();
            assert_eq!((family.pattern.as_str(), family.member.as_str()), (pattern, member));
        }
        for name in ["gull.ogg", "gull_wing.ogg", "7.wav", "_a.wav", "step ().wav"] {
            assert_eq!(family_of(name), None, "{name}");
        }
    }
}
