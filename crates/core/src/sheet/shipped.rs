//! Sheets to start from, by kind of use.

/// A sheet that ships.
#[derive(Debug)]
pub struct Shipped {
    /// Its name, as it is typed.
    pub name: &'static str,
    /// What it is for, in one line.
    pub about: &'static str,
    /// The sheet.
    pub text: &'static str,
}

macro_rules! shipped {
    ($($name:literal: $about:literal),* $(,)?) => {
        /// All of them.
        pub const SHIPPED: &[Shipped] = &[$(Shipped {
            name: $name,
            about: $about,
            text: include_str!(concat!("../../sheets/", $name, ".toml")),
        }),*];
    };
}

shipped! {
    "placed-effect": "an effect that a game places in space: mono, short, uncompressed",
    "streamed-music": "music that a game streams and loops",
    "loop-bed": "ambience that loops without a gap, from memory",
    "small-prompt": "spoken prompts for a device with little memory",
    "line-prompt": "spoken prompts for telephone lines and intercoms",
    "ring-melody": "a melody that a handset or an intercom rings with",
    "desk-alert": "a short alert on a desktop computer",
    "show-cue": "a cue for a stage or show player, uncompressed at full quality",
}

impl Shipped {
    /// One by its name.
    pub fn named(name: &str) -> Option<&'static Self> {
        SHIPPED.iter().find(|shipped| shipped.name == name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::Sheet;
    use std::path::Path;

    #[test]
    fn every_one_is_sound_and_gives_its_reasons() {
        for shipped in SHIPPED {
            let sheet = Sheet::parse(shipped.text, Path::new(shipped.name)).unwrap();
            assert!(!sheet.rules.is_empty() && !shipped.about.is_empty());
            for line in shipped.text.lines().filter(|line| line.contains(" = ")) {
                let told =
                    line.contains('#') || line.starts_with("name") || line.starts_with("match");
                assert!(told, "{}: no reason for {line}", shipped.name);
            }
            let same = SHIPPED.iter().filter(|other| other.name == shipped.name);
            assert_eq!(same.count(), 1);
        }
    }
}
