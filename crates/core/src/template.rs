//! Templates: text with `{…}`, filled in with what is known of a slot, and the job's values.

use crate::entry::plain;
use serde_json::{Map, Number, Value};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Everything that a template can name.
#[derive(Debug, Clone, Default)]
pub struct Names {
    values: BTreeMap<String, Value>,
    /// What identifiers are derived from: they differ where it differs, and stay the same where it does.
    identity: String,
}

/// What identifiers of packs are derived in (RFC 9562, 5.5); itself drawn once for all.
const SPACE: Uuid = Uuid::from_u128(0x6d1f_5c02_9a3e_4b77_8f40_2e91_c7d5_06ab);

impl Names {
    /// None but identifiers, which are derived from this text.
    pub fn of(identity: &str) -> Self {
        Self { values: BTreeMap::new(), identity: identity.to_owned() }
    }

    /// Takes in one more, or another value for one.
    pub fn set(&mut self, name: &str, value: impl Into<Value>) {
        self.values.insert(name.to_owned(), value.into());
    }

    /// The same with more of them.
    #[must_use]
    pub fn with<'a>(&self, more: impl IntoIterator<Item = (&'a String, &'a Value)>) -> Self {
        let mut all = self.clone();
        let more = more.into_iter().map(|(name, value)| (name.clone(), value.clone()));
        all.values.extend(more);
        all
    }

    /// What a place in braces stands for: a name, `* number` or `/ number` behind it, and
    /// `|round`, `|floor` or `|ceil`, `|first 2` for its first characters, `|step` for one step of a
    /// pointer (RFC 6901), or `|quoted` for a text in double quotes as JSON and TOML have it.
    fn place(&self, place: &str) -> Result<Value, String> {
        let (sum, round) = match place.split_once('|') {
            Some((sum, round)) => (sum.trim(), Some(round.trim())),
            None => (place.trim(), None),
        };
        if let Some(name) = sum.strip_prefix("uuid:") {
            let text = format!("{}\0{name}", self.identity);
            return Ok(Value::from(Uuid::new_v5(&SPACE, text.as_bytes()).to_string()));
        }
        let (name, by) = match sum.find(['*', '/']) {
            None => (sum, None),
            Some(at) => {
                let (name, rest) = sum.split_at(at);
                let number: f64 = rest[1..]
                    .trim()
                    .parse()
                    .map_err(|_| format!("{{{place}}}: {} is not a number", &rest[1..]))?;
                (name.trim(), Some((rest.starts_with('*'), number)))
            }
        };
        let value = self.values.get(name).ok_or_else(|| self.unknown(name))?;
        if let Some(most) = round.and_then(|round| round.strip_prefix("first ")) {
            let most: usize =
                most.trim().parse().map_err(|_| format!("{{{place}}}: {most} is not a number"))?;
            return Ok(Value::from(plain(value).chars().take(most).collect::<String>()));
        }
        if round == Some("step") {
            return Ok(Value::from(plain(value).replace('~', "~0").replace('/', "~1")));
        }
        if round == Some("quoted") {
            return Ok(Value::from(Value::from(plain(value)).to_string()));
        }
        if by.is_none() && round.is_none() {
            return Ok(value.clone());
        }
        let number = value.as_f64();
        let number = number.ok_or_else(|| format!("{{{place}}}: {name} is not a number"))?;
        let number = match by {
            Some((true, by)) => number * by,
            Some((false, by)) if by != 0.0 => number / by,
            Some(_) => return Err(format!("{{{place}}} divides by nothing")),
            None => number,
        };
        let whole = match round {
            None => return Ok(Number::from_f64(number).map_or(Value::Null, Value::Number)),
            Some("round") => number.round(),
            Some("floor") => number.floor(),
            Some("ceil") => number.ceil(),
            Some(other) => {
                return Err(format!(
                    "{{{place}}}: {other} is none of round, floor, ceil, quoted, step, first N"
                ));
            }
        };
        Ok(Value::from(deft_needle_audio::num::rounded_signed(whole)))
    }

    fn unknown(&self, name: &str) -> String {
        let names: Vec<&str> = self.values.keys().map(String::as_str).collect();
        let known = names.join(", ");
        format!("{{{name}}} is not known here; known are {known} and uuid:NAME")
    }

    /// Fills in a text; `{{` and `}}` are braces.
    ///
    /// # Errors
    /// A place that is not known, or has no end.
    pub fn text(&self, template: &str) -> Result<String, String> {
        let mut text = String::new();
        for piece in pieces(template)? {
            match piece {
                Piece::Text(plain) => text += &plain,
                Piece::Place(place) => text += &plain(&self.place(&place)?),
            }
        }
        Ok(text)
    }

    /// Fills in a value; a text that is one place alone becomes what that is: a number stays a number.
    ///
    /// # Errors
    /// As [`Names::text`].
    pub fn value(&self, template: &toml::Value) -> Result<Value, String> {
        Ok(match template {
            toml::Value::String(text) => match lone(text) {
                Some(place) => self.place(place)?,
                None => Value::from(self.text(text)?),
            },
            toml::Value::Integer(number) => Value::from(*number),
            toml::Value::Float(number) => Value::from(*number),
            toml::Value::Boolean(value) => Value::from(*value),
            toml::Value::Datetime(time) => Value::from(time.to_string()),
            toml::Value::Array(members) => {
                let members = members.iter().map(|member| self.value(member));
                Value::Array(members.collect::<Result<_, _>>()?)
            }
            toml::Value::Table(members) => {
                let member = |(key, value)| {
                    let key: &String = key;
                    Ok::<_, String>((self.text(key)?, self.value(value)?))
                };
                Value::Object(members.iter().map(member).collect::<Result<Map<_, _>, _>>()?)
            }
        })
    }
}

/// A part of a template.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// What stands as it is.
    Text(String),
    /// What stood in braces.
    Place(String),
}

/// The parts of a template; `{{` and `}}` are braces.
///
/// # Errors
/// A brace without its other one.
pub fn pieces(template: &str) -> Result<Vec<Piece>, String> {
    let mut all = Vec::new();
    let mut text = String::new();
    let mut rest = template;
    while let Some(at) = rest.find(['{', '}']) {
        let (before, brace) = rest.split_at(at);
        text += before;
        rest = match brace.get(..2) {
            Some(both @ ("{{" | "}}")) => {
                text += &both[..1];
                &brace[2..]
            }
            _ if brace.starts_with('}') => {
                return Err(format!("\"{template}\" has a }} without its {{"));
            }
            _ => {
                let (place, behind) = brace[1..]
                    .split_once('}')
                    .ok_or_else(|| format!("\"{template}\" has a {{ without its }}"))?;
                all.push(Piece::Text(std::mem::take(&mut text)));
                all.push(Piece::Place(place.to_owned()));
                behind
            }
        };
    }
    all.push(Piece::Text(text + rest));
    Ok(all)
}

/// A table's values as templates know them.
pub fn values(table: &toml::Table) -> BTreeMap<String, Value> {
    let value = |(name, value): (&String, &toml::Value)| {
        Some((name.clone(), serde_json::to_value(value).ok()?))
    };
    table.iter().filter_map(value).collect()
}

/// The place that a text consists of, where it is just one.
fn lone(text: &str) -> Option<&str> {
    let inside = text.strip_prefix('{')?.strip_suffix('}')?;
    (!inside.contains(['{', '}'])).then_some(inside)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn names() -> Names {
        let mut names = Names::of("Quay bells");
        names.set("slot", "sfx/gull_1.ogg");
        names.set("seconds", 1.2346);
        names.set("frames", 44_100);
        names
    }

    #[test]
    fn places_and_sums() {
        for (template, want) in [
            ("{slot}", Value::from("sfx/gull_1.ogg")),
            ("a {frames} b", Value::from("a 44100 b")),
            ("{seconds*1000|round}", Value::from(1235)),
            ("{ frames / 2 |floor}", Value::from(22_050)),
            ("{seconds}", Value::from(1.2346)),
            ("{slot|quoted}", Value::from("\"sfx/gull_1.ogg\"")),
            ("{slot|step}", Value::from("sfx~1gull_1.ogg")),
            ("{slot|first 3}", Value::from("sfx")),
            ("{{x}}", Value::from("{x}")),
            ("plain", Value::from("plain")),
        ] {
            let template = toml::Value::String(template.to_owned());
            assert_eq!(names().value(&template), Ok(want), "{template}");
        }
        for template in
            ["{nothing}", "{", "}", "{frames*x}", "{slot|round}", "{frames|up}", "{frames/0}"]
        {
            assert!(names().text(template).is_err(), "{template}");
        }
    }

    #[test]
    fn identifiers_are_derived() {
        let one = names().text("{uuid:pack}").unwrap();
        assert_eq!(one, names().text("{uuid:pack}").unwrap());
        assert_ne!(one, names().text("{uuid:module}").unwrap());
        assert_ne!(one, Names::of("Other").text("{uuid:pack}").unwrap());
        assert_eq!(Uuid::parse_str(&one).unwrap().get_version_num(), 5);
    }

    proptest! {
        #[test]
        fn any_template_is_no_panic(text in "[a-z{}|*/:0-9 ]{0,30}") {
            let _ = names().text(&text);
        }
    }
}
