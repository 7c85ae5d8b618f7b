//! Templates: text with `{…}`, filled in with what is known of a slot, and the job's values.

use crate::entry::plain;
use crate::limits;
use crate::names::nearest;
use crate::refusal::OddTemplate;
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

    /// What a place in braces stands for: a name, `* number` or `/ number` behind it, and what is done to
    /// it then, each behind a `|`: see [`filtered`].
    fn place(&self, place: &str) -> Result<Value, OddTemplate> {
        let mut parts = place.split('|').map(str::trim);
        let sum = parts.next().unwrap_or_default();
        let written = || format!("{{{place}}}");
        let wrong = |why: String| OddTemplate::Sum { written: written(), why };
        let mut value = self.sum(sum).map_err(|odd| match odd {
            Odd::Unknown(name) if is_name(name) => self.unknown(written(), name),
            Odd::Unknown(_) => OddTemplate::NoName { written: written() },
            Odd::Sum(why) => wrong(why),
        })?;
        for filter in parts {
            value = filtered(&value, filter).map_err(wrong)?;
            fits(value.as_str().map_or(0, str::len))?;
        }
        Ok(value)
    }

    fn sum<'s>(&self, sum: &'s str) -> Result<Value, Odd<'s>> {
        if let Some(name) = sum.strip_prefix("uuid:") {
            let text = format!("{}\0{name}", self.identity);
            return Ok(Value::from(Uuid::new_v5(&SPACE, text.as_bytes()).to_string()));
        }
        let known = |name: &'s str| self.values.get(name).ok_or(Odd::Unknown(name));
        let Some(at) = sum.find(['*', '/']) else {
            return known(sum).cloned();
        };
        let (name, rest) = sum.split_at(at);
        let (name, by) = (name.trim(), rest[1..].trim());
        let number = |text: &str| text.parse::<f64>().map_err(|_| Odd::Sum(not_a_number(text)));
        let (by, value) = (number(by)?, known(name)?);
        let value = value.as_f64().ok_or_else(|| Odd::Sum(not_a_number(name)))?;
        let value = match rest.starts_with('*') {
            true => value * by,
            false if by == 0.0 => return Err(Odd::Sum("it divides by nothing".to_owned())),
            false => value / by,
        };
        Ok(Number::from_f64(value).map_or(Value::Null, Value::Number))
    }

    fn unknown(&self, written: String, name: &str) -> OddTemplate {
        let known: Vec<String> =
            self.values.keys().cloned().chain(["uuid:NAME".to_owned()]).collect();
        OddTemplate::Unknown {
            written,
            name: name.to_owned(),
            slot: self.values.get("slot").map(plain),
            near: nearest(name, known.iter().map(String::as_str), 1),
            known,
        }
    }

    /// Fills in a text; `{{` and `}}` are braces.
    ///
    /// # Errors
    /// A place that is not known, or has no end.
    pub fn text(&self, template: &str) -> Result<String, OddTemplate> {
        let mut text = String::new();
        for piece in pieces(template)? {
            let more = match piece {
                Piece::Text(plain) => plain,
                Piece::Place(place) => plain(&self.place(&place)?),
            };
            fits(text.len() + more.len())?;
            text += &more;
        }
        Ok(text)
    }

    /// Fills in a value; a text that is one place alone becomes what that is: a number stays a number.
    ///
    /// # Errors
    /// As [`Names::text`].
    pub fn value(&self, template: &toml::Value) -> Result<Value, OddTemplate> {
        self.value_within(template, &mut limits::FILLED.clone())
    }

    /// The same with what is left of the room that all of it may take.
    fn value_within(&self, template: &toml::Value, room: &mut usize) -> Result<Value, OddTemplate> {
        let mut take = |value: Value| {
            let bytes = value.as_str().map_or(1, str::len);
            *room = room.checked_sub(bytes).ok_or(TOO_LONG)?;
            Ok(value)
        };
        Ok(match template {
            toml::Value::String(text) => match lone(text) {
                Some(place) => take(self.place(place)?)?,
                None => take(Value::from(self.text(text)?))?,
            },
            toml::Value::Integer(number) => Value::from(*number),
            toml::Value::Float(number) => Value::from(*number),
            toml::Value::Boolean(value) => Value::from(*value),
            toml::Value::Datetime(time) => Value::from(time.to_string()),
            toml::Value::Array(members) => {
                let members = members.iter().map(|member| self.value_within(member, room));
                Value::Array(members.collect::<Result<_, _>>()?)
            }
            toml::Value::Table(members) => {
                let member = |(key, value)| {
                    let key: &String = key;
                    Ok::<_, OddTemplate>((self.text(key)?, self.value_within(value, room)?))
                };
                Value::Object(members.iter().map(member).collect::<Result<Map<_, _>, _>>()?)
            }
        })
    }
}

const TOO_LONG: OddTemplate = OddTemplate::TooLong { most: limits::FILLED };

/// Whether a text of so many bytes may be made.
fn fits(bytes: usize) -> Result<(), OddTemplate> {
    if bytes <= limits::FILLED { Ok(()) } else { Err(TOO_LONG) }
}

/// What is odd about a sum.
enum Odd<'s> {
    /// A name that is not known here.
    Unknown(&'s str),
    /// Anything else.
    Sum(String),
}

/// Whether something can be a name; else its braces were hardly meant to be a template's.
fn is_name(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_alphanumeric() || "._-".contains(c))
}

fn not_a_number(text: &str) -> String {
    format!("{text} is not a number")
}

/// What can be done to a value, in the order of their names.
const FILTERS: &str =
    "ceil, first N, floor, json, lower, numbers, pattern, quoted, round, step, title, upper, xml";

/// A value after a filter: `round`, `floor`, `ceil`; `first 2`, `lower`, `upper`, `title` of a text; `json`, and
/// `quoted`, its text in double quotes as JSON and TOML have it; `xml`, its text as XML has it; `step`, one step of
/// a pointer (RFC 6901); `pattern`, its text in an expression; `numbers`, the list of a version's numbers.
fn filtered(value: &Value, filter: &str) -> Result<Value, String> {
    let text = || plain(value);
    let rounded = |round: fn(f64) -> f64| {
        let number = value.as_f64().ok_or_else(|| not_a_number(&text()))?;
        Ok(Value::from(deft_needle_audio::num::rounded_signed(round(number))))
    };
    if let Some(most) = filter.strip_prefix("first ") {
        let most: usize = most.trim().parse().map_err(|_| not_a_number(most))?;
        return Ok(Value::from(text().chars().take(most).collect::<String>()));
    }
    Ok(Value::from(match filter {
        "round" => return rounded(f64::round),
        "floor" => return rounded(f64::floor),
        "ceil" => return rounded(f64::ceil),
        "json" => value.to_string(),
        "quoted" => Value::from(text()).to_string(),
        "xml" => {
            let plain = text().replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            plain.replace('"', "&quot;").replace('\'', "&apos;")
        }
        "step" => text().replace('~', "~0").replace('/', "~1"),
        "pattern" => regex::escape(&text()),
        "lower" => text().to_lowercase(),
        "upper" => text().to_uppercase(),
        "title" => titled(&text()),
        "numbers" => {
            let numbers = text();
            let numbers = numbers.split(['.', '-', '+']).map(str::parse::<u64>);
            let numbers: Vec<u64> = numbers.map_while(Result::ok).collect();
            Value::from(numbers).to_string()
        }
        other => return Err(format!("{other} is none of {FILTERS}")),
    }))
}

/// Each word with a capital.
fn titled(text: &str) -> String {
    let mut begins = true;
    let letter = |c: char| {
        let shown: String = if begins { c.to_uppercase().collect() } else { c.to_string() };
        begins = !c.is_alphanumeric() && c != '\'';
        shown
    };
    text.chars().map(letter).collect()
}

/// The line in which the rest of a template begins.
fn line_of<'t>(template: &'t str, rest: &str) -> &'t str {
    let at = template.len() - rest.len();
    let start = template[..at].rfind('\n').map_or(0, |at| at + 1);
    template[start..].lines().next().unwrap_or_default()
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
pub fn pieces(template: &str) -> Result<Vec<Piece>, OddTemplate> {
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
                let written = line_of(template, rest).to_owned();
                return Err(OddTemplate::Brace { written, brace: '}' });
            }
            _ => {
                let (place, behind) = brace[1..].split_once('}').ok_or_else(|| {
                    let written = line_of(template, rest).to_owned();
                    OddTemplate::Brace { written, brace: '{' }
                })?;
                all.push(Piece::Text(std::mem::take(&mut text)));
                all.push(Piece::Place(place.to_owned()));
                behind
            }
        };
    }
    all.push(Piece::Text(text + rest));
    Ok(all)
}

/// What is written as a document of a known kind must be one.
///
/// # Errors
/// What it is not.
pub(crate) fn refuse_broken(path: &str, text: &str) -> Result<(), OddTemplate> {
    let extension = path.rsplit_once('.').map_or("", |(_, extension)| extension);
    let wrong = |kind, why| Err(OddTemplate::Broken { kind, why });
    match extension.to_lowercase().as_str() {
        "json" => match serde_json::from_str::<Value>(text) {
            Err(error) => wrong("JSON", error.to_string()),
            Ok(_) => Ok(()),
        },
        "toml" => match text.parse::<toml::Table>() {
            Err(error) => wrong("TOML", error.message().to_owned()),
            Ok(_) => Ok(()),
        },
        "xml" | "plist" => match crate::entry::read_xml(text) {
            Err(what) => wrong("XML", what),
            Ok(_) => Ok(()),
        },
        _ => Ok(()),
    }
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
        names.set("odd", "it's <a> & \"b\"");
        names.set("words", "the crossing at dusk, it's 7");
        names.set("version", "1.0.2-beta");
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
            ("{slot|upper|quoted}", Value::from("\"SFX/GULL_1.OGG\"")),
            ("{odd|xml}", Value::from("it&apos;s &lt;a&gt; &amp; &quot;b&quot;")),
            ("{odd|json}", Value::from("\"it's <a> & \\\"b\\\"\"")),
            ("{words|title}", Value::from("The Crossing At Dusk, It's 7")),
            ("{version|numbers}", Value::from("[1,0,2]")),
            ("{frames|json}", Value::from("44100")),
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
