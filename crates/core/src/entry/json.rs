//! JSON, with comments and trailing commas where a target has them.

use super::node::{Kind, Member, Node, Syntax};
use jsonc_parser::ast;
use jsonc_parser::common::Ranged;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};
use serde_json::Value;
use std::ops::Range;

/// JSON (RFC 8259).
pub struct Json;

fn range(of: &impl Ranged) -> Range<usize> {
    of.start()..of.end()
}

/// What lies between the marks of a container.
fn inner(of: &impl Ranged) -> Option<Range<usize>> {
    Some(of.start() + 1..of.end() - 1)
}

fn node(value: &ast::Value<'_>) -> Node {
    let kind = match value {
        ast::Value::StringLit(text) => Kind::Leaf(Value::String(text.value.to_string())),
        ast::Value::NumberLit(number) => Kind::Leaf(
            serde_json::from_str(number.value)
                .unwrap_or_else(|_| Value::String(number.value.to_owned())),
        ),
        ast::Value::BooleanLit(value) => Kind::Leaf(Value::Bool(value.value)),
        ast::Value::NullKeyword(_) => Kind::Leaf(Value::Null),
        ast::Value::Array(array) => Kind::List {
            members: array.elements.iter().map(element).collect(),
            inner: inner(array),
        },
        ast::Value::Object(object) => Kind::Map {
            members: object.properties.iter().map(property).collect(),
            inner: inner(object),
        },
    };
    Node { range: range(value), kind }
}

fn element(value: &ast::Value<'_>) -> Member {
    Member { key: String::new(), range: range(value), glue: 0..0, node: node(value) }
}

fn property(property: &ast::ObjectProp<'_>) -> Member {
    Member {
        key: property.name.as_str().to_owned(),
        range: range(property),
        glue: property.name.end()..property.value.start(),
        node: node(&property.value),
    }
}

/// A value in one line, with air behind colons and commas.
pub fn in_line(value: &Value) -> String {
    let list = |parts: Vec<String>| parts.join(", ");
    match value {
        Value::Array(members) => format!("[{}]", list(members.iter().map(in_line).collect())),
        Value::Object(members) if members.is_empty() => "{}".to_owned(),
        Value::Object(members) => {
            let member = |(key, value): (&String, &Value)| {
                format!("{}: {}", Value::from(key.as_str()), in_line(value))
            };
            format!("{{ {} }}", list(members.iter().map(member).collect()))
        }
        leaf => leaf.to_string(),
    }
}

/// Reads a text with its comments and with commas behind last members.
///
/// # Errors
/// What is wrong with it.
pub fn read(text: &str) -> Result<Value, String> {
    Json.read(text).map(|node| node.value())
}

impl Syntax for Json {
    fn read(&self, text: &str) -> Result<Node, String> {
        super::depth::refuse_brackets(text).map_err(|what| format!("invalid JSON: {what}"))?;
        let options = ParseOptions {
            allow_comments: true,
            allow_trailing_commas: true,
            allow_loose_object_property_names: false,
            allow_missing_commas: false,
            allow_single_quoted_strings: false,
            allow_hexadecimal_numbers: false,
            allow_unary_plus_numbers: false,
            ..ParseOptions::default()
        };
        let read = parse_to_ast(text, &CollectOptions::default(), &options);
        let read = read.map_err(|error| format!("invalid JSON: {error}"))?;
        read.value.as_ref().map(node).ok_or_else(|| "invalid JSON: it is empty".to_owned())
    }

    fn fragment(&self, text: &str) -> Option<Node> {
        self.read(text).ok().filter(|node| node.range == (0..text.len()))
    }

    fn value(&self, value: &Value) -> String {
        in_line(value)
    }

    fn key(&self, key: &str) -> String {
        Value::from(key).to_string()
    }

    fn glue(&self) -> &'static str {
        ": "
    }

    fn separator(&self) -> &'static str {
        ","
    }

    fn line_comment(&self) -> Option<&'static str> {
        Some("//")
    }

    fn marks(&self, list: bool) -> [&'static str; 2] {
        if list { ["[", "]"] } else { ["{", "}"] }
    }
}
