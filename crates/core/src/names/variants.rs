//! Variants: slots that a target takes turns with, told by a number, a letter or a number in brackets.

use super::rules::parts;

/// A family of variants and one member's place in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Family {
    /// The name with `#` where the members differ: `sfx/gull_#.ogg`.
    pub pattern: String,
    /// What stands there in this member.
    pub member: String,
}

/// The family that a name belongs to by its form: a number in brackets, digits at the end of the stem, a
/// single letter behind `-` or `_`, or digits within the stem behind one of `-_. ` (`door-01-left`,
/// `rain_1loop`).
pub fn family_of(name: &str) -> Option<Family> {
    let (file, stem, _) = parts(name);
    let (before, member, after) = bracketed(stem, '(', ')')
        .or_else(|| bracketed(stem, '[', ']'))
        .or_else(|| numbered(stem))
        .or_else(|| lettered(stem))
        .or_else(|| within(stem))?;
    let (folder, dotted) = (&name[..name.len() - file.len()], &file[stem.len()..]);
    Some(Family { pattern: format!("{folder}{before}#{after}{dotted}"), member: member.to_owned() })
}

fn bracketed(stem: &str, open: char, close: char) -> Option<(&str, &str, &str)> {
    let inner = stem.strip_suffix(close)?;
    let open = inner.rfind(open)?;
    let member = &inner[open + 1..];
    let number = !member.is_empty() && member.bytes().all(|b| b.is_ascii_digit());
    number.then_some((&stem[..=open], member, &stem[inner.len()..]))
}

/// The last number that stands behind a separator.
fn within(stem: &str) -> Option<(&str, &str, &str)> {
    let digit = |c: char| c.is_ascii_digit();
    let end = stem.rfind(digit)? + 1;
    let before = stem[..end].trim_end_matches(digit);
    let parted = before.ends_with(['-', '_', '.', ' ']) && before.len() > 1;
    parted.then_some((before, &stem[before.len()..end], &stem[end..]))
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
            ("drill.1.ogg", "drill.#.ogg", "1"),
            ("cart[12].ogg", "cart[#].ogg", "12"),
            ("sfx/lift_1_up.ogg", "sfx/lift_#_up.ogg", "1"),
            ("rain_1loop.ogg", "rain_#loop.ogg", "1"),
            ("door-01-left.ogg", "door-#-left.ogg", "01"),
        ] {
            let family = family_of(name).unwrap();
            assert_eq!((family.pattern.as_str(), family.member.as_str()), (pattern, member));
        }
        for name in [
            "gull.ogg",
            "gull_wing.ogg",
            "7.wav",
            "_a.wav",
            "step ().wav",
            "01 - Sunrise.ogg",
            "mp3hum.wav",
        ] {
            assert_eq!(family_of(name), None, "{name}");
        }
    }
}
