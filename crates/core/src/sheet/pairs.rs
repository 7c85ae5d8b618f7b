//! Options by their names, as a sheet writes them.

use deft_needle_audio::edit::{OPTIONS, Request, ValueKind, option};
use serde::de::{DeserializeSeed, Error as _, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::fmt;
use std::sync::LazyLock;

/// Options by their names, as text.
#[derive(Debug, Clone, Default)]
pub struct Pairs(pub Vec<(String, String)>);

static NAMES: LazyLock<Vec<&str>> = LazyLock::new(|| OPTIONS.iter().map(|row| row.name).collect());

impl Pairs {
    /// All of them, in their order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(name, text)| (name.as_str(), text.as_str()))
    }

    /// Takes in the value of a key, which is one of `known` where it is no option.
    ///
    /// # Errors
    /// A key that is none, a value that is wrong.
    pub(crate) fn take<'de, A: MapAccess<'de>>(
        &mut self,
        key: &str,
        known: &'static [&'static str],
        map: &mut A,
    ) -> Result<(), A::Error> {
        match option(key) {
            Some(_) => map.next_value_seed(Value { key, pairs: &mut self.0 }),
            None => Err(A::Error::unknown_field(key, known)),
        }
    }
}

/// Reads the value of one option, and says at its place what is wrong with it.
struct Value<'a> {
    key: &'a str,
    pairs: &'a mut Vec<(String, String)>,
}

impl Value<'_> {
    fn take<E: serde::de::Error>(&mut self, text: &str) -> Result<(), E> {
        Request::default().set(self.key, text).map_err(E::custom)?;
        self.pairs.push((self.key.to_owned(), text.to_owned()));
        Ok(())
    }
}

impl<'de> DeserializeSeed<'de> for Value<'_> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Value<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a text, a number or true for {}", self.key)
    }

    fn visit_str<E: serde::de::Error>(mut self, text: &str) -> Result<(), E> {
        self.take(text)
    }

    fn visit_i64<E: serde::de::Error>(mut self, number: i64) -> Result<(), E> {
        self.take(&number.to_string())
    }

    fn visit_f64<E: serde::de::Error>(mut self, number: f64) -> Result<(), E> {
        self.take(&number.to_string())
    }

    fn visit_bool<E: serde::de::Error>(mut self, value: bool) -> Result<(), E> {
        self.take(&value.to_string())
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut texts: A) -> Result<(), A::Error> {
        let many = option(self.key).is_some_and(|row| matches!(row.value, ValueKind::Many(_)));
        if !many {
            return Err(A::Error::custom(format!("{} takes one value", self.key)));
        }
        while let Some(text) = texts.next_element::<String>()? {
            self.take(&text)?;
        }
        Ok(())
    }
}

impl<'de> Deserialize<'de> for Pairs {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Keys;
        impl<'de> Visitor<'de> for Keys {
            type Value = Pairs;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a table of options")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Pairs, A::Error> {
                let mut pairs = Pairs::default();
                while let Some(key) = map.next_key::<String>()? {
                    pairs.take(&key, &NAMES, &mut map)?;
                }
                Ok(pairs)
            }
        }
        deserializer.deserialize_map(Keys)
    }
}
