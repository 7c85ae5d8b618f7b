//! What contradicts itself in a rule.

use super::rule::Rule;
use crate::refusal::OddRule;
use deft_needle_audio::edit::Time;
use deft_needle_audio::spec::{Choice, Container, Demand, Format, Header, Looped, limit};
use deft_needle_audio::units::SampleRate;
use deft_needle_audio::{Spec, Unmet};

impl Rule {
    /// What an encoding cannot carry, where the rule has it written.
    fn unmet(demand: &Demand) -> Option<Unmet> {
        let written = demand.specs.iter().filter_map(Spec::written);
        written.filter(|format| is_written(*format)).find_map(limit)
    }

    /// # Errors
    /// The first contradiction.
    pub fn validate(&self) -> Result<(), OddRule> {
        if self.patterns.get_ref().0.is_empty() {
            return Err(OddRule::NoMatch);
        }
        let Some(demand) = self.demand() else {
            let sound = self.header.is_some() || self.tags.is_some() || self.route.is_some();
            if sound || self.level.is_some() || self.longest.is_some() {
                return Err(OddRule::KeysOfSound);
            }
            return Ok(());
        };
        if !self.first_bytes.0.is_empty() || self.encoder.is_some() {
            return Err(OddRule::KeysOfClosed);
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
            return Err(OddRule::Shortest);
        }
        Self::unmet(&demand).map_or(Ok(()), |unmet| Err(OddRule::Unmet(unmet)))
    }

    fn contradicts(&self, spec: &Spec) -> Result<(), OddRule> {
        let Choice::OneOf(containers) = &spec.container else {
            return Ok(());
        };
        let none = |holds: fn(Container) -> bool| !containers.iter().copied().any(holds);
        let line = spec.container.to_string();
        let told = !self.loop_file.0.is_empty();
        if self.looped == Looped::Required && !told && none(|c| c.most_loops() > 0) {
            return Err(OddRule::NoLoopPoints(line));
        }
        if self.loop_tags.is_some() && none(Container::holds_comments) {
            return Err(OddRule::NoLoopTags(line));
        }
        if self.header.is_some() && none(|c| c == Container::Wav) {
            return Err(OddRule::NotWav(line));
        }
        let rows = self.route.as_ref().map(|route| route.0.len());
        let channels = spec.channels.only().map(|c| usize::from(c.count()));
        if let (Some(rows), Some(channels)) = (rows, channels)
            && rows != channels
        {
            return Err(OddRule::Route { rows, channels });
        }
        Ok(())
    }
}

/// Whether container and encoding are both ones that are written here.
pub(super) fn is_written(format: Format) -> bool {
    !format.container.facts().writes.is_empty() && format.encoding.codec.is_written()
}

/// A spec line whose written form no encoder can make.
fn unwritable(spec: &Spec, demand: &Demand) -> Result<(), OddRule> {
    if demand.header == Some(Header::Extensible) && demand.block_bytes.is_some() {
        return Err(OddRule::ExtensibleBlocks);
    }
    let Some(format) = spec.written() else {
        return Ok(());
    };
    if !format.container.facts().writes.contains(&format.encoding.codec) {
        return Err(OddRule::Holds(format));
    }
    Ok(())
}
