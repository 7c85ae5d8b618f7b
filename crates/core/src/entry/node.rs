//! Trees of places in a text: what stands where, in any format that nests.

use serde_json::{Map, Value};
use std::ops::Range;

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// All of it.
    pub range: Range<usize>,
    /// What it is.
    pub kind: Kind,
}

/// What a node is.
#[derive(Debug, Clone, PartialEq)]
pub enum Kind {
    /// A value without members.
    Leaf(Value),
    /// Members in order, between an opening and a closing mark.
    List {
        /// The members.
        members: Vec<Member>,
        /// What lies between the marks; nothing where they are one.
        inner: Option<Range<usize>>,
    },
    /// Members by key.
    Map {
        /// The members.
        members: Vec<Member>,
        /// As for lists.
        inner: Option<Range<usize>>,
    },
    /// Members by key, a line each, without marks around them.
    Lines {
        /// The members.
        members: Vec<Member>,
        /// Where the first one would stand.
        start: usize,
    },
}

/// A member of a node.
#[derive(Debug, Clone, PartialEq)]
pub struct Member {
    /// Its key; empty in lists.
    pub key: String,
    /// All of it, with its key.
    pub range: Range<usize>,
    /// What stands between key and value.
    pub glue: Range<usize>,
    /// Its value.
    pub node: Node,
}

/// How a format is read and written.
pub trait Syntax: Send + Sync {
    /// Reads a text.
    ///
    /// # Errors
    /// What is wrong, and where.
    fn read(&self, text: &str) -> Result<Node, String>;
    /// Writes a value.
    fn value(&self, value: &Value) -> String;
    /// Writes a key.
    fn key(&self, key: &str) -> String;
    /// What stands between a key and its value where nothing tells.
    fn glue(&self) -> &'static str;
    /// What parts members.
    fn separator(&self) -> &'static str;
    /// What begins a comment that ends with its line, where there is one.
    fn line_comment(&self) -> Option<&'static str>;
    /// Marks around members: of a list, of a map.
    fn marks(&self, list: bool) -> [&'static str; 2];
    /// Reads a value by itself, as it stands within a text; nothing where that tells too little.
    fn fragment(&self, _text: &str) -> Option<Node> {
        None
    }
    /// A whole section with one member, where the format has such.
    fn section(&self, _path: &[String], _key: &str, _value: &Value) -> Option<String> {
        None
    }
}

impl Node {
    /// Moves everything that stands at or behind `at` by what a text has become longer there, or shorter. `path` are the
    /// places of the members that lead to where that was: they grow.
    pub fn shift(&mut self, at: usize, by: isize, path: Option<&[usize]>) {
        let moved = |place: &mut usize| *place = place.saturating_add_signed(by);
        let moves = |range: &mut Range<usize>| {
            if range.start >= at {
                moved(&mut range.start);
                moved(&mut range.end);
            }
        };
        match path {
            Some(_) => moved(&mut self.range.end),
            None => moves(&mut self.range),
        }
        let (Kind::List { members, inner } | Kind::Map { members, inner }) = &mut self.kind else {
            return;
        };
        match (inner, path) {
            (Some(inner), Some(_)) => moved(&mut inner.end),
            (Some(inner), None) => moves(inner),
            (None, _) => {}
        }
        let next = path.and_then(|path| path.split_first());
        for (place, member) in members.iter_mut().enumerate() {
            let on_path = next.filter(|(first, _)| **first == place).map(|(_, rest)| rest);
            match on_path {
                Some(_) => moved(&mut member.range.end),
                // Nothing in it moves either.
                None if member.range.start < at => continue,
                None => moves(&mut member.range),
            }
            // Members of lists have none.
            if !member.glue.is_empty() {
                moves(&mut member.glue);
            }
            member.node.shift(at, by, on_path);
        }
    }

    /// The node that members lead to, by their places.
    pub fn at_mut(&mut self, path: &[usize]) -> Option<&mut Self> {
        let Some((first, rest)) = path.split_first() else {
            return Some(self);
        };
        let (Kind::List { members, .. } | Kind::Map { members, .. }) = &mut self.kind else {
            return None;
        };
        members.get_mut(*first)?.node.at_mut(rest)
    }

    /// Its members, to be changed; nothing for what is a single value, or lines.
    pub fn members_mut(&mut self) -> Option<&mut Vec<Member>> {
        match &mut self.kind {
            Kind::List { members, .. } | Kind::Map { members, .. } => Some(members),
            Kind::Leaf(_) | Kind::Lines { .. } => None,
        }
    }

    /// Its members; none of a single value.
    pub fn members(&self) -> &[Member] {
        match &self.kind {
            Kind::Leaf(_) => &[],
            Kind::List { members, .. }
            | Kind::Map { members, .. }
            | Kind::Lines { members, .. } => members,
        }
    }

    /// Whether its members have no keys.
    pub fn is_list(&self) -> bool {
        matches!(self.kind, Kind::List { .. })
    }

    /// Whether its members have keys.
    pub fn is_map(&self) -> bool {
        matches!(self.kind, Kind::Map { .. } | Kind::Lines { .. })
    }

    /// Whether it stands in a text of lines without being one.
    pub(super) fn is_section(&self) -> bool {
        matches!(self.kind, Kind::Lines { .. } | Kind::List { inner: None, .. })
    }

    /// The member that a step of a pointer leads to.
    pub fn child(&self, step: &str) -> Option<usize> {
        match self.is_list() {
            true => step.parse().ok().filter(|at| *at < self.members().len()),
            false => self.members().iter().position(|m| m.key == step),
        }
    }

    /// What it says.
    pub fn value(&self) -> Value {
        let members = self.members().iter();
        match &self.kind {
            Kind::Leaf(value) => value.clone(),
            Kind::List { .. } => members.map(|m| m.node.value()).collect(),
            Kind::Map { .. } | Kind::Lines { .. } => {
                let pairs = members.map(|m| (m.key.clone(), m.node.value()));
                Value::Object(pairs.collect::<Map<_, _>>())
            }
        }
    }
}

/// The steps of a pointer (RFC 6901, 3); the leading `/` may be left out.
pub fn steps(at: &str) -> Vec<String> {
    let at = at.strip_prefix('/').unwrap_or(at);
    if at.is_empty() {
        return Vec::new();
    }
    let plain = |step: &str| step.replace("~1", "/").replace("~0", "~");
    at.split('/').map(plain).collect()
}
