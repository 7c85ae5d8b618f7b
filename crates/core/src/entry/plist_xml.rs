//! Property lists as XML (Apple's PropertyList-1.0 DTD).

use super::node::{Kind, Member, Node, Syntax};
use crate::limits;
use roxmltree::{Document, ParsingOptions};
use serde_json::Value;
use std::ops::Range;

/// A property list as XML.
pub struct PlistXml;

struct Reader<'t> {
    text: &'t str,
}

impl Reader<'_> {
    /// What lies between an element's tags; nothing where it is one tag.
    fn inner(&self, element: roxmltree::Node<'_, '_>) -> Option<Range<usize>> {
        let range = element.range();
        let text = &self.text[range.clone()];
        let open = text.find('>')? + 1;
        let close = text.rfind("</")?;
        (open <= close).then_some(range.start + open..range.start + close)
    }

    fn node(&self, element: roxmltree::Node<'_, '_>) -> Result<Node, String> {
        let children = || element.children().filter(roxmltree::Node::is_element);
        let text = element.text().unwrap_or_default();
        let kind = match element.tag_name().name() {
            "dict" => {
                let parts: Vec<_> = children().collect();
                let pairs = parts.chunks(2).map(|pair| match pair {
                    [key, value] if key.has_tag_name("key") => self.member(*key, *value),
                    _ => Err("a dict holds something else than keys and values".to_owned()),
                });
                Kind::Map { members: pairs.collect::<Result<_, _>>()?, inner: self.inner(element) }
            }
            "array" => {
                let member = |child: roxmltree::Node<'_, '_>| {
                    let node = self.node(child)?;
                    Ok::<_, String>(Member {
                        key: String::new(),
                        range: node.range.clone(),
                        glue: 0..0,
                        node,
                    })
                };
                Kind::List {
                    members: children().map(member).collect::<Result<_, _>>()?,
                    inner: self.inner(element),
                }
            }
            "integer" => Kind::Leaf(text.trim().parse::<i64>().map_or(Value::Null, Value::from)),
            "real" => Kind::Leaf(text.trim().parse::<f64>().map_or(Value::Null, Value::from)),
            "true" => Kind::Leaf(Value::Bool(true)),
            "false" => Kind::Leaf(Value::Bool(false)),
            _ => Kind::Leaf(Value::from(text)),
        };
        Ok(Node { range: element.range(), kind })
    }

    fn member(
        &self,
        key: roxmltree::Node<'_, '_>,
        value: roxmltree::Node<'_, '_>,
    ) -> Result<Member, String> {
        let node = self.node(value)?;
        Ok(Member {
            key: key.text().unwrap_or_default().to_owned(),
            range: key.range().start..node.range.end,
            glue: key.range().end..node.range.start,
            node,
        })
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// Reads any document, which nests no deeper and holds no more than [`limits`] allow.
///
/// # Errors
/// What is wrong with it.
pub fn read_xml(text: &str) -> Result<Document<'_>, String> {
    super::depth::refuse_elements(text).map_err(|what| format!("invalid XML: {what}"))?;
    let options = ParsingOptions {
        allow_dtd: true,
        nodes_limit: u32::try_from(limits::VALUES).unwrap_or(u32::MAX),
        ..ParsingOptions::default()
    };
    Document::parse_with_options(text, options).map_err(|error| format!("invalid XML: {error}"))
}

impl Syntax for PlistXml {
    fn read(&self, text: &str) -> Result<Node, String> {
        let document = read_xml(text)?;
        let root = document.root_element();
        let value = root.children().find(roxmltree::Node::is_element);
        match value {
            Some(value) if root.has_tag_name("plist") => Reader { text }.node(value),
            _ => Err("it is not a property list".to_owned()),
        }
    }

    fn value(&self, value: &Value) -> String {
        match value {
            Value::Null => "<string></string>".to_owned(),
            Value::Bool(true) => "<true/>".to_owned(),
            Value::Bool(false) => "<false/>".to_owned(),
            Value::Number(number) if number.is_f64() => format!("<real>{number}</real>"),
            Value::Number(number) => format!("<integer>{number}</integer>"),
            Value::String(text) => format!("<string>{}</string>", escaped(text)),
            Value::Array(members) => {
                let members: String = members.iter().map(|m| self.value(m)).collect();
                format!("<array>{members}</array>")
            }
            Value::Object(members) => {
                let member = |(key, value): (&String, &Value)| self.key(key) + &self.value(value);
                let members: String = members.iter().map(member).collect();
                format!("<dict>{members}</dict>")
            }
        }
    }

    fn key(&self, key: &str) -> String {
        format!("<key>{}</key>", escaped(key))
    }

    fn glue(&self) -> &'static str {
        ""
    }

    fn separator(&self) -> &'static str {
        ""
    }

    fn line_comment(&self) -> Option<&'static str> {
        None
    }

    fn marks(&self, list: bool) -> [&'static str; 2] {
        match list {
            true => ["<array>", "</array>"],
            false => ["<dict>", "</dict>"],
        }
    }
}
