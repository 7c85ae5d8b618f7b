//! What contradicts itself in a rule.

use super::rule::Rule;
use deft_needle_audio::edit::Time;
use deft_needle_audio::spec::{Choice, Container, Demand, Format, Header, Looped, limit};
use deft_needle_audio::units::SampleRate;
use deft_needle_audio::{Spec, Unmet};

impl Rule {
    /// What an encoding cannot carry, where the rule has it written.
    pub(super) fn unmet(&self) -> Option<Unmet> {
        let specs = self.demand()?.specs;
        specs.iter().filter_map(Spec::written).filter(|format| is_written(*format)).find_map(limit)
    }

    /// What contradicts itself, and what to do about it.
    ///
    /// # Errors
    /// The first contradiction.
    pub fn validate(&self) -> Result<(), (String, String)> {
        let says = |what: &str, instead: &str| Err((what.to_owned(), instead.to_owned()));
        if self.patterns.get_ref().0.is_empty() {
            return says("it matches no slot", "write match = 'sfx/*.wav'");
        }
        let Some(demand) = self.demand() else {
            let sound = self.header.is_some() || self.tags.is_some() || self.route.is_some();
            if sound || self.level.is_some() || self.longest.is_some() {
                return says(
                    "files of a closed format have no header, tags, route, level or length to check",
                    "leave these keys out; largest, first-bytes and encoder are for such files",
                );
            }
            return Ok(());
        };
        if self.first_bytes.is_some() || self.encoder.is_some() {
            return says(
                "first-bytes and encoder are for spec = \"opaque\"",
                "leave them out, or write spec = \"opaque\"",
            );
        }
        for spec in &demand.specs {
            // What is only read here can still be told from other files.
            if spec.written().is_some_and(is_written) {
                unwritable(spec, &demand)?;
            }
            self.contradicts(spec)?;
        }
        let ends = |a: Option<Time>, b: Option<Time>| match (a, b) {
            (Some(a), Some(b)) => a.seconds(SampleRate::STUDIO) > b.seconds(SampleRate::STUDIO),
            _ => false,
        };
        if ends(self.shortest, self.longest) || ends(self.loop_shortest, self.loop_longest) {
            return says("the shortest is longer than the longest", "");
        }
        Ok(())
    }

    fn contradicts(&self, spec: &Spec) -> Result<(), (String, String)> {
        let Choice::OneOf(containers) = &spec.container else {
            return Ok(());
        };
        let none = |holds: fn(Container) -> bool| !containers.iter().copied().any(holds);
        let line = spec.container.to_string();
        if self.looped == Looped::Required && none(|c| c.most_loops() > 0) {
            return Err((
                format!("loop = \"required\", but {line} has no place for loop points"),
                "a player that loops the whole file needs none: leave the key out".to_owned(),
            ));
        }
        if self.loop_tags.is_some() && none(Container::holds_comments) {
            return Err((
                format!("loop-tags name texts, and {line} has none for loops"),
                "leave them out: its loop points have a place of their own".to_owned(),
            ));
        }
        if self.header.is_some() && none(|c| c == Container::Wav) {
            return Err((
                format!("header is for kinds of WAV, and this is {line}"),
                "leave it out".to_owned(),
            ));
        }
        let rows = self.route.as_ref().map(|route| route.0.len());
        let channels = spec.channels.only().map(|c| usize::from(c.count()));
        if let (Some(rows), Some(channels)) = (rows, channels)
            && rows != channels
        {
            return Err((
                format!("the route feeds {rows} channels, and the spec line has {channels}"),
                "write one expression for each channel".to_owned(),
            ));
        }
        Ok(())
    }
}

/// Whether container and encoding are both ones that are written here.
pub(super) fn is_written(format: Format) -> bool {
    !format.container.facts().writes.is_empty() && format.encoding.codec.is_written()
}

/// A spec line whose written form no encoder can make.
fn unwritable(spec: &Spec, demand: &Demand) -> Result<(), (String, String)> {
    if demand.header == Some(Header::Extensible) && demand.block_bytes.is_some() {
        return Err((
            "an extensible header has no place for the blocks of ADPCM".to_owned(),
            "write header = \"plain\"".to_owned(),
        ));
    }
    let Some(format) = spec.written() else {
        return Ok(());
    };
    if !format.container.facts().writes.contains(&format.encoding.codec) {
        return Err((
            format!("{} cannot hold {}", format.container, format.encoding),
            String::new(),
        ));
    }
    Ok(())
}
