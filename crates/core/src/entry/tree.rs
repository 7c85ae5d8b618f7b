//! Texts that nest, as trees of places in them: what is put in or taken out is spliced, and every other
//! byte stays.

use super::Document;
use super::node::{Kind, Member, Node, Syntax, steps};
use super::text::{Stored, behind_line, line_end, put_line, take_line};
use serde_json::{Map, Value};
use std::ops::Range;

/// A text in one of these formats.
pub struct Tree {
    stored: Stored,
    syntax: &'static dyn Syntax,
    root: Node,
}

/// The last line of a node that is no section.
fn last_line(node: &Node) -> Option<&Member> {
    node.members().iter().rfind(|member| !member.node.is_section())
}

impl Tree {
    /// Reads a text.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(bytes: &[u8], syntax: &'static dyn Syntax) -> Result<Self, String> {
        let stored = Stored::read(bytes)?;
        let root = syntax.read(&stored.text)?;
        Ok(Self { stored, syntax, root })
    }

    #[cfg(test)]
    pub fn read_again(&self) -> Result<Node, String> {
        self.syntax.read(&self.stored.text)
    }

    #[cfg(test)]
    pub fn root_node(&self) -> &Node {
        &self.root
    }

    fn text(&self) -> &str {
        &self.stored.text
    }

    /// The node that some steps lead to.
    fn node(&self, steps: &[String]) -> Option<&Node> {
        let mut node = &self.root;
        for step in steps {
            node = &node.members().get(node.child(step)?)?.node;
        }
        Some(node)
    }

    /// The places of the members that some steps lead through.
    fn path(&self, steps: &[String]) -> Option<Vec<usize>> {
        let (mut node, mut path) = (&self.root, Vec::new());
        for step in steps {
            let place = node.child(step)?;
            path.push(place);
            node = &node.members().get(place)?.node;
        }
        Some(path)
    }

    /// Changes the text within a container and moves what stands behind, where the tree can follow without being read
    /// again: a text of many members would else be read once for each.
    fn edit(&mut self, path: &[usize], range: Range<usize>, with: &str) {
        let by = with.len().wrapping_sub(range.len()).cast_signed();
        self.root.shift(range.end, by, Some(path));
        self.stored.text.replace_range(range, with);
    }

    /// A member that was written at `start`: as a node, where the syntax reads values by themselves.
    fn written(&self, key: Option<&str>, text: &str, start: usize) -> Option<Member> {
        let written_key = key.map(|key| self.syntax.key(key)).unwrap_or_default();
        let rest = text.strip_prefix(written_key.as_str())?;
        let glue = key.map_or(0, |_| {
            rest.find(':').map_or(0, |colon| {
                let behind = &rest[colon + 1..];
                colon + 1 + behind.len() - behind.trim_start().len()
            })
        });
        let value = written_key.len() + glue;
        let mut node = self.syntax.fragment(&text[value..])?;
        node.shift(0, start.checked_add(value)?.cast_signed(), None);
        let begin = start + written_key.len();
        Some(Member {
            key: key.unwrap_or_default().to_owned(),
            range: start..start + text.len(),
            // Members of lists have none.
            glue: key.map_or(0..0, |_| begin..begin + glue),
            node,
        })
    }

    /// Takes a new member into the tree.
    fn take_in(&mut self, path: &[usize], index: usize, member: Member) -> Result<(), String> {
        let members = self.root.at_mut(path).and_then(Node::members_mut).ok_or("no such place")?;
        members.insert(index.min(members.len()), member);
        Ok(())
    }

    fn splice(&mut self, range: Range<usize>, with: &str) -> Result<(), String> {
        self.stored.text.replace_range(range, with);
        self.root = self.syntax.read(&self.stored.text)?;
        Ok(())
    }

    fn lines_changed(&mut self) -> Result<(), String> {
        self.root = self.syntax.read(&self.stored.text)?;
        Ok(())
    }

    /// White space right before a place.
    fn blank_before(&self, at: usize) -> Range<usize> {
        self.text()[..at].trim_end().len()..at
    }

    /// Where the separator stands in a range, comments passed over.
    fn separator_in(&self, range: Range<usize>) -> Option<usize> {
        let separator = self.syntax.separator();
        let mut at = range.start;
        while at < range.end && !separator.is_empty() {
            let rest = &self.text()[at..range.end];
            let comment = self.syntax.line_comment();
            if comment.is_some_and(|mark| rest.starts_with(mark)) {
                at = behind_line(self.text(), at).min(range.end);
            } else if rest.starts_with("/*") {
                at += rest.find("*/").map_or(rest.len(), |end| end + 2);
            } else if rest.starts_with(separator) {
                return Some(at);
            } else {
                at += rest.chars().next().map_or(1, char::len_utf8);
            }
        }
        None
    }

    /// Puts a member among those of a container.
    fn put(
        &mut self,
        steps: &[String],
        index: usize,
        key: Option<&str>,
        value: &Value,
    ) -> Result<(), String> {
        let Some(node) = self.node(steps) else {
            return Err("no such place".to_owned());
        };
        let members = node.members();
        let member = self.member(node, key, value);
        match &node.kind {
            Kind::Leaf(_) => Err("a single value is there".to_owned()),
            Kind::Lines { start, .. } => {
                let (at, prefix) = match last_line(node) {
                    None => (*start, String::new()),
                    Some(last) => {
                        let line = self.text()[..last.range.start].rfind('\n').map_or(0, |n| n + 1);
                        let prefix = self.text()[line..last.range.start].to_owned();
                        (behind_line(self.text(), last.range.end), prefix)
                    }
                };
                put_line(&mut self.stored.text, at, &format!("{prefix}{member}"));
                self.lines_changed()
            }
            Kind::List { inner, .. } | Kind::Map { inner, .. } => {
                let (range, inner, list) = (node.range.clone(), inner.clone(), node.is_list());
                let path = self.path(steps).ok_or("no such place")?;
                if let Some(next) = members.get(index) {
                    let start = next.range.start;
                    return self.put_before(&path, index, key, start, &member);
                }
                let Some(last) = members.last() else {
                    return self.put_first(range, inner, list, &member);
                };
                let (last, alone) = (last.range.clone(), members.len() == 1);
                let end = inner.map_or(range.end, |inner| inner.end);
                self.put_last(&path, key, last, alone, end, &member)
            }
        }
    }

    /// A member as text, in the manner of those that a container has.
    fn member(&self, node: &Node, key: Option<&str>, value: &Value) -> String {
        let written = self.syntax.value(value);
        let Some(key) = key else { return written };
        let alike = match node.kind {
            Kind::Lines { .. } => last_line(node),
            _ => node.members().last(),
        };
        let glue = alike.map_or(self.syntax.glue(), |m| &self.text()[m.glue.clone()]);
        format!("{}{glue}{written}", self.syntax.key(key))
    }

    /// A member before the one that begins at `start`.
    fn put_before(
        &mut self,
        path: &[usize],
        index: usize,
        key: Option<&str>,
        start: usize,
        member: &str,
    ) -> Result<(), String> {
        let separator = self.syntax.separator();
        let blank = match &self.text()[self.blank_before(start)] {
            "" if !separator.is_empty() => " ".to_owned(),
            blank => blank.to_owned(),
        };
        let text = format!("{member}{separator}{blank}");
        match self.written(key, member, start) {
            Some(written) => {
                self.edit(path, start..start, &text);
                self.take_in(path, index, written)
            }
            None => self.splice(start..start, &text),
        }
    }

    /// The only member of a container.
    fn put_first(
        &mut self,
        range: Range<usize>,
        inner: Option<Range<usize>>,
        list: bool,
        member: &str,
    ) -> Result<(), String> {
        let text = self.text();
        let [open, close] = self.syntax.marks(list);
        let indent_at = |at: usize| {
            let line = text[..at].rfind('\n').map_or(0, |n| n + 1);
            let rest = &text[line..];
            rest[..rest.len() - rest.trim_start_matches([' ', '\t']).len()].to_owned()
        };
        let outer = indent_at(range.start);
        let (before, after) = match text.contains('\n') && !list {
            true => {
                let unit = text.lines().find(|line| line.starts_with([' ', '\t']));
                let unit = unit.map_or("  ", |line| &line[..line.len() - line.trim_start().len()]);
                let end = line_end(text);
                (format!("{end}{outer}{unit}"), format!("{end}{outer}"))
            }
            // One letter of air where the marks are braces.
            false if !list && open.len() == 1 => (" ".to_owned(), " ".to_owned()),
            false => (String::new(), String::new()),
        };
        match inner {
            Some(inner) => {
                let kept = text[inner.clone()].trim_end().to_owned();
                self.splice(inner, &format!("{kept}{before}{member}{after}"))
            }
            None => self.splice(range, &format!("{open}{before}{member}{after}{close}")),
        }
    }

    /// A member after the last one.
    fn put_last(
        &mut self,
        path: &[usize],
        key: Option<&str>,
        last: Range<usize>,
        alone: bool,
        inner_end: usize,
        member: &str,
    ) -> Result<(), String> {
        let separator = self.syntax.separator();
        let blank = self.text()[self.blank_before(last.start)].to_owned();
        let blank =
            match (alone || blank.is_empty()) && !blank.contains('\n') && !separator.is_empty() {
                true => " ".to_owned(),
                false => blank,
            };
        // What is said about the last one on its line stays there.
        let behind = |at: usize| {
            let line = self.text()[at..inner_end].lines().next().unwrap_or_default();
            let comment = self.syntax.line_comment().is_some_and(|mark| line.contains(mark));
            at + if comment { line.trim_end().len() } else { 0 }
        };
        if let Some(trailing) = self.separator_in(last.end..inner_end) {
            let at = behind(trailing + separator.len());
            let text = format!("{blank}{member}{separator}");
            return match self.written(key, member, at + blank.len()) {
                Some(written) => {
                    self.edit(path, at..at, &text);
                    self.take_in(path, usize::MAX, written)
                }
                None => self.splice(at..at, &text),
            };
        }
        let end = behind(last.end);
        let text = format!("{blank}{member}");
        match self.written(key, member, end + blank.len()) {
            Some(written) => {
                self.edit(path, end..end, &text);
                self.take_in(path, usize::MAX, written)?;
                self.edit(path, last.end..last.end, separator);
                Ok(())
            }
            None => {
                self.stored.text.insert_str(end, &text);
                self.splice(last.end..last.end, separator)
            }
        }
    }

    /// Takes a member out.
    fn take(&mut self, steps: &[String], index: usize) -> Result<(), String> {
        let Some(node) = self.node(steps) else {
            return Err("no such place".to_owned());
        };
        let members = node.members();
        let Some(member) = members.get(index) else {
            return Err("no such member".to_owned());
        };
        let own = member.range.clone();
        if let Kind::Lines { .. } = node.kind {
            let line = self.text()[..own.start].rfind('\n').map_or(0, |n| n + 1);
            take_line(&mut self.stored.text, line);
            return self.lines_changed();
        }
        let separator = self.syntax.separator().len();
        let next = members.get(index + 1).map(|next| next.range.start);
        let previous = index.checked_sub(1).map(|at| members[at].range.end);
        let blank = self.blank_before(own.start);
        let behind = self.separator_in(own.end..next.unwrap_or(node.range.end));
        // What is cut, the later part first.
        let (cut, more) = match (next, behind, previous) {
            // Nothing but the separator before the next one.
            (Some(next), Some(at), _)
                if self.text()[own.end..at].trim().is_empty()
                    && self.text()[at + separator..next].trim().is_empty() =>
            {
                (own.start..next, None)
            }
            (_, Some(at), _) => (at..at + separator, Some(blank.start..own.end)),
            (_, None, Some(previous)) => {
                let before = self.separator_in(previous..own.start);
                let before = before.map(|at| at..at + separator);
                (blank.start..own.end, before)
            }
            (_, None, None) => (blank.start..own.end, None),
        };
        let cuts = std::iter::once(cut).chain(more);
        // Whether the tree can follow is told by whether the member is one that can be read by itself.
        let follows = self.syntax.fragment(&self.text()[member.node.range.clone()]).is_some();
        let path = self.path(steps).filter(|_| follows);
        let Some(path) = path else {
            for cut in cuts {
                self.stored.text.replace_range(cut, "");
            }
            return self.lines_changed();
        };
        let members = self.root.at_mut(&path).and_then(Node::members_mut).ok_or("no such place")?;
        members.remove(index);
        for cut in cuts {
            self.edit(&path, cut, "");
        }
        Ok(())
    }

    /// A value where there is not even a container: nested in the nearest one that there is.
    fn make_way(&mut self, steps: &[String], value: &Value) -> Result<(), String> {
        let reach = (0..steps.len()).rev().find(|n| self.node(&steps[..*n]).is_some());
        let reach = reach.ok_or("no such place")?;
        let (parents, rest) = steps.split_at(reach);
        if self.node(parents).is_none_or(|node| !node.is_map()) {
            return Err("no such place".to_owned());
        }
        let key = &steps[steps.len() - 1];
        if rest.len() > 1
            && let Some(section) = self.syntax.section(&steps[..steps.len() - 1], key, value)
        {
            let end = line_end(self.text());
            let section = section.replace('\n', end);
            let gap = match self.text().is_empty() || self.text().ends_with('\n') {
                true => "",
                false => end,
            };
            let air = if self.text().is_empty() { "" } else { end };
            let text = format!("{gap}{air}{section}{end}");
            self.stored.text += &text;
            return self.lines_changed();
        }
        let nested = rest.iter().skip(1).rev().fold(value.clone(), |value, step| {
            Value::Object(Map::from_iter([(step.clone(), value)]))
        });
        let index = self.node(parents).map_or(0, |node| node.members().len());
        let parents = parents.to_vec();
        self.put(&parents, index, Some(&rest[0]), &nested)
    }

    fn set_raw(&mut self, steps: &[String], raw: &str) -> Result<(), String> {
        let range = self.node(steps).map(|node| node.range.clone()).ok_or("no such place")?;
        let path = self.path(steps).filter(|path| !path.is_empty());
        let (Some(path), Some(mut node)) = (path, self.syntax.fragment(raw)) else {
            return self.splice(range, raw);
        };
        node.shift(0, range.start.cast_signed(), None);
        self.edit(&path, range, raw);
        *self.root.at_mut(&path).ok_or("no such place")? = node;
        Ok(())
    }
}

impl Document for Tree {
    fn get(&self, at: &str) -> Option<Value> {
        self.node(&steps(at)).map(Node::value)
    }

    fn raw(&self, at: &str) -> Option<String> {
        let node = self.node(&steps(at))?;
        Some(self.text()[node.range.clone()].to_owned())
    }

    fn set(&mut self, at: &str, value: &Value) -> Result<(), String> {
        let steps = steps(at);
        match self.node(&steps) {
            Some(node) if matches!(node.kind, Kind::Lines { .. }) => {
                Err("a whole section is there".to_owned())
            }
            Some(_) => self.set_raw(&steps, &self.syntax.value(value)),
            None => self.make_way(&steps, value),
        }
    }

    fn put_back(&mut self, at: &str, raw: Option<&str>) -> Result<(), String> {
        let steps = steps(at);
        match (raw, steps.split_last()) {
            (Some(raw), _) => self.set_raw(&steps, raw),
            (None, Some((last, parents))) => {
                let child = self.node(parents).and_then(|node| node.child(last));
                self.take(parents, child.ok_or("no such place")?)
            }
            (None, None) => Err("the whole file was put there".to_owned()),
        }
    }

    fn list(&self, at: &str) -> Result<Vec<Value>, String> {
        match self.node(&steps(at)) {
            Some(node) if node.is_list() => {
                Ok(node.members().iter().map(|m| m.node.value()).collect())
            }
            Some(_) => Err("what is there is not a list".to_owned()),
            None => Ok(Vec::new()),
        }
    }

    fn insert(&mut self, at: &str, index: usize, value: &Value) -> Result<(), String> {
        let steps = steps(at);
        match self.node(&steps) {
            Some(node) if node.is_list() => self.put(&steps, index, None, value),
            Some(_) => Err("what is there is not a list".to_owned()),
            None => self.make_way(&steps, &Value::Array(vec![value.clone()])),
        }
    }

    fn remove(&mut self, at: &str, index: usize) -> Result<(), String> {
        self.take(&steps(at), index)
    }

    fn bytes(&self) -> Result<Vec<u8>, String> {
        self.stored.bytes().map_err(|error| error.to_string())
    }
}
