//! Property lists in their binary form: read whole, and rewritten.

use super::node::steps;
use super::{Document, depth};
use plist::Value as Plist;
use serde_json::{Map, Value};
use std::io::Cursor;

/// How a binary property list begins.
pub const MARK: &[u8] = b"bplist";

/// A binary property list.
pub struct PlistBinary(Plist);

fn plain(value: &Plist) -> Value {
    match value {
        Plist::Array(members) => members.iter().map(plain).collect(),
        Plist::Dictionary(members) => {
            let pairs = members.iter().map(|(key, value)| (key.clone(), plain(value)));
            Value::Object(pairs.collect::<Map<_, _>>())
        }
        Plist::Boolean(value) => Value::Bool(*value),
        Plist::Integer(number) => number
            .as_signed()
            .map(Value::from)
            .or_else(|| number.as_unsigned().map(Value::from))
            .unwrap_or_default(),
        Plist::Real(number) => Value::from(*number),
        Plist::String(text) => Value::from(text.as_str()),
        _ => Value::Null,
    }
}

fn made(value: &Value) -> Plist {
    match value {
        Value::Null => Plist::String(String::new()),
        Value::Bool(value) => Plist::Boolean(*value),
        Value::Number(number) => match (number.as_i64(), number.as_u64()) {
            (Some(number), _) => Plist::Integer(number.into()),
            (None, Some(number)) => Plist::Integer(number.into()),
            (None, None) => Plist::Real(number.as_f64().unwrap_or_default()),
        },
        Value::String(text) => Plist::String(text.clone()),
        Value::Array(members) => Plist::Array(members.iter().map(made).collect()),
        Value::Object(members) => {
            let pairs = members.iter().map(|(key, value)| (key.clone(), made(value)));
            Plist::Dictionary(pairs.collect())
        }
    }
}

impl PlistBinary {
    /// Reads one.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        match bytes.starts_with(MARK) {
            true => depth::refuse_binary(bytes),
            false => depth::refuse_elements(&String::from_utf8_lossy(bytes)),
        }
        .map_err(|what| format!("invalid property list: {what}"))?;
        let read = Plist::from_reader(Cursor::new(bytes));
        read.map(Self).map_err(|error| format!("invalid property list: {error}"))
    }

    fn node(&self, steps: &[String]) -> Option<&Plist> {
        steps.iter().try_fold(&self.0, |node, step| match node {
            Plist::Array(members) => members.get(step.parse::<usize>().ok()?),
            Plist::Dictionary(members) => members.get(step),
            _ => None,
        })
    }

    /// The same to change it; maps that are missing are made.
    fn place(&mut self, steps: &[String]) -> Result<&mut Plist, String> {
        let mut node = &mut self.0;
        for step in steps {
            node = match node {
                Plist::Array(members) => {
                    let at = step.parse::<usize>().ok();
                    at.and_then(|at| members.get_mut(at)).ok_or("no such place")?
                }
                Plist::Dictionary(members) => {
                    if !members.contains_key(step) {
                        members.insert(step.clone(), Plist::Dictionary(plist::Dictionary::new()));
                    }
                    members.get_mut(step).ok_or("no such place")?
                }
                _ => return Err("no such place".to_owned()),
            };
        }
        Ok(node)
    }

    fn put(&mut self, at: &str, value: Plist) -> Result<(), String> {
        *self.place(&steps(at))? = value;
        Ok(())
    }
}

impl Document for PlistBinary {
    fn get(&self, at: &str) -> Option<Value> {
        self.node(&steps(at)).map(plain)
    }

    fn raw(&self, at: &str) -> Option<String> {
        let mut bytes = Vec::new();
        self.node(&steps(at))?.to_writer_xml(&mut bytes).ok()?;
        String::from_utf8(bytes).ok()
    }

    fn set(&mut self, at: &str, value: &Value) -> Result<(), String> {
        self.put(at, made(value))
    }

    fn put_back(&mut self, at: &str, raw: Option<&str>) -> Result<(), String> {
        if let Some(raw) = raw {
            let value = Self::read(raw.as_bytes())?.0;
            return self.put(at, value);
        }
        let steps = steps(at);
        let (last, parents) = steps.split_last().ok_or("the whole file was put there")?;
        match self.place(parents)? {
            Plist::Dictionary(members) => {
                members.remove(last);
                Ok(())
            }
            _ => Err("no such place".to_owned()),
        }
    }

    fn list(&self, at: &str) -> Result<Vec<Value>, String> {
        match self.node(&steps(at)) {
            None => Ok(Vec::new()),
            Some(Plist::Array(members)) => Ok(members.iter().map(plain).collect()),
            Some(_) => Err("what is there is not a list".to_owned()),
        }
    }

    fn insert(&mut self, at: &str, index: usize, value: &Value) -> Result<(), String> {
        let steps = steps(at);
        let missing = self.node(&steps).is_none();
        let place = self.place(&steps)?;
        if missing {
            *place = Plist::Array(Vec::new());
        }
        match place {
            Plist::Array(members) => {
                members.insert(index.min(members.len()), made(value));
                Ok(())
            }
            _ => Err("what is there is not a list".to_owned()),
        }
    }

    fn remove(&mut self, at: &str, index: usize) -> Result<(), String> {
        match self.place(&steps(at))? {
            Plist::Array(members) if index < members.len() => {
                members.remove(index);
                Ok(())
            }
            _ => Err("no such member".to_owned()),
        }
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        self.0.to_writer_binary(&mut bytes).map_err(|error| error.to_string())?;
        Ok(bytes)
    }
}
