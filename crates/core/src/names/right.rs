//! A name that would be right, for one that is not.

use super::rules::{
    Case, Form, NEVER, NameRules, parts, reserved, second_extension, short_character,
};
use super::taken::Taken;
use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::is_combining_mark;

/// The nearest name that meets the rules and that nothing else has; `None` where there is none.
pub fn right_name(
    slot: &str,
    rules: &NameRules,
    extensions: &[String],
    taken: &Taken,
) -> Option<String> {
    let folder = slot.rsplit_once('/').map_or("", |(folder, _)| folder);
    let (_, stem, extension) = parts(slot);
    let extension = match extensions {
        [] => extension.trim_end_matches(['.', ' ']).to_owned(),
        known if known.iter().any(|e| e.eq_ignore_ascii_case(extension)) => extension.to_owned(),
        known => known[0].clone(),
    };
    let mut stem = stem;
    while second_extension(stem, extensions).is_some() {
        stem = stem.rsplit_once('.').map_or(stem, |(before, _)| before);
    }
    let letters = letters(stem, rules);
    let most = most(rules);
    let named = |stem: &str| {
        let dot = if extension.is_empty() { "" } else { "." };
        let slash = if folder.is_empty() { "" } else { "/" };
        let name = format!("{folder}{slash}{stem}{dot}{extension}");
        match rules.case {
            Some(Case::Lower) => name.to_lowercase(),
            Some(Case::Upper) => name.to_uppercase(),
            None => name,
        }
    };
    // A free one by counting up.
    (0..1000)
        .map(|step| named(&shortened(&letters, step, most)))
        .find(|name| rules.faults(name, extensions).is_empty() && taken.faults(name).is_empty())
}

/// Letters that the rules take, as near to the typed ones as there are.
fn letters(stem: &str, rules: &NameRules) -> Vec<char> {
    let fits = |c: &char| {
        let short = rules.form != Some(Form::EightThree) || short_character(*c);
        let allowed = rules.allowed.as_ref().is_none_or(|set| set.holds(*c));
        short && allowed && !NEVER.contains(c) && !c.is_control()
    };
    let cased = |c: char| -> Vec<char> {
        match rules.case {
            Some(Case::Lower) => c.to_lowercase().collect(),
            Some(Case::Upper) => c.to_uppercase().collect(),
            None => vec![c],
        }
    };
    let other_case = |c: char| {
        let lower = c.to_lowercase().next().filter(fits);
        lower.or_else(|| c.to_uppercase().next().filter(fits))
    };
    let mut all: Vec<char> = Vec::new();
    for c in stem.nfc() {
        let cased = cased(c);
        if cased.iter().all(fits) {
            all.extend(cased);
            continue;
        }
        // The letter without its accent, then a joiner, then nothing.
        let plain = [c].into_iter().nfkd().filter(|c| !is_combining_mark(*c));
        let plain: Vec<char> =
            plain.filter_map(|c| Some(c).filter(fits).or_else(|| other_case(c))).collect();
        let joiner = ['_', '-'].into_iter().find(fits);
        match plain.is_empty() {
            false => all.extend(plain),
            true if all.last() == joiner.as_ref() => {}
            true => all.extend(joiner),
        }
    }
    while matches!(all.last(), Some('.' | ' ')) {
        all.pop();
    }
    let name: String = all.iter().collect();
    if reserved(&name) || all.is_empty() {
        let more = ['s', 'S', 'x', 'X', '1', '0'].into_iter().find(fits);
        all.extend(more);
    }
    all
}

fn most(rules: &NameRules) -> usize {
    let form = match rules.form {
        Some(Form::EightThree) => 8,
        None => usize::MAX,
    };
    rules.stem_longest.unwrap_or(usize::MAX).min(form)
}

/// Cut to the most characters, the number that it ends in counted up by this many steps.
fn shortened(letters: &[char], step: u32, most: usize) -> String {
    let digits = letters.iter().rev().take_while(|c| c.is_ascii_digit());
    let digits = digits.count().min(8);
    let (before, own) = letters.split_at(letters.len() - digits);
    let own: String = own.iter().collect();
    let tail = match (own.parse::<u32>(), step) {
        (_, 0) => own,
        (Ok(number), step) => format!("{:0digits$}", number + step),
        (Err(_), step) => (step + 1).to_string(),
    };
    let room = most.saturating_sub(tail.chars().count());
    let kept: String = before.iter().take(room).collect();
    if before.len() > room {
        return kept.trim_end_matches(['_', '-', ' ']).to_owned() + &tail;
    }
    kept + &tail
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rules(text: &str) -> NameRules {
        toml::from_str(text).unwrap()
    }

    #[test]
    fn faults_and_names_that_would_be_right() {
        let ferry = rules("stem-longest = 12\nallowed = 'a-z0-9_'\ncase = 'lower'");
        let wren = rules("form = '8.3'\ncase = 'upper'");
        let none = NameRules::default();
        for (rules, name, fault, right) in [
            (&ferry, "sfx/Gull Cry.ogg", "Letters", "sfx/gull_cry.ogg"),
            (&ferry, "sfx/möwe.ogg", "Letters", "sfx/mowe.ogg"),
            (&ferry, "sfx/seagull_crying_3.ogg", "length: 16", "sfx/seagull_cry3.ogg"),
            (&ferry, "sfx/gull.ogg.ogg", "SecondExtension", "sfx/gull.ogg"),
            (&ferry, "sfx/gull.wav", "Extension(", "sfx/gull.ogg"),
            (&ferry, "sfx/gull_1.ogg", "Twin", "sfx/gull_2.ogg"),
            (&ferry, "sfx/nul.ogg", "Device", "sfx/nuls.ogg"),
            (&wren, "SAY/LONGNAME9.PRM", "NotShort", "SAY/LONGNAM9.PRM"),
            (&wren, "SAY/tick01.prm", "Lower", "SAY/TICK01.PRM"),
            (&none, "a?b.wav", "Windows(", "a_b.wav"),
            (&none, "e\u{301}.wav", "Apart", "\u{e9}.wav"),
            (&none, "x. ", "End", "x"),
        ] {
            let extensions: Vec<String> = match name.starts_with("sfx") {
                true => vec!["ogg".to_owned()],
                false => Vec::new(),
            };
            let taken = Taken::of(["sfx/Gull_1.ogg"]);
            let mut faults = rules.faults(name, &extensions);
            faults.extend(taken.faults(name));
            assert!(format!("{faults:?}").contains(fault), "{name}: {faults:?}");
            assert_eq!(
                right_name(name, rules, &extensions, &taken).as_deref(),
                Some(right),
                "{name}"
            );
        }
        assert!(ferry.faults("sfx/gull_1.ogg", &[]).is_empty());
        for name in ["CON", "con.wav", "Lpt1.x", "COM².txt"] {
            assert!(reserved(name), "{name}");
        }
        for name in ["CONE.wav", "COM10", "x.con"] {
            assert!(!reserved(name), "{name}");
        }
    }

    proptest! {
        #[test]
        fn what_is_proposed_is_right(
            name in "[\\PC]{1,24}", longest in 1usize..12, set in "[a-z]{2,4}0-9",
            short in any::<bool>(), other in "[a-z]{1,4}",
        ) {
            let rules = NameRules {
                stem_longest: Some(longest),
                allowed: Some(set.parse().unwrap()),
                case: None,
                form: short.then_some(Form::EightThree),
            };
            let (taken, extensions) = (Taken::of([format!("{other}.wav").as_str()]), ["wav".to_owned()]);
            if let Some(right) = right_name(&name.replace('/', "_"), &rules, &extensions, &taken) {
                prop_assert_eq!(rules.faults(&right, &extensions), Vec::new());
                prop_assert_eq!(taken.faults(&right), Vec::new());
            }
        }
    }
}
