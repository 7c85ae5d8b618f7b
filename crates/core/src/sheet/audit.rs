//! A sheet looked at as a whole, next to the slots that it covers.

use super::{Fault, New, Pattern, Rule, Sheet};
use crate::refusal::{OddRule, OddText};
use std::ops::Range;

/// Something in a sheet that is no mistake by itself, and seldom meant.
pub type Remark = Fault;

/// What is odd about a sheet: rules that no slot reaches. `slots` are
/// all names that are known; none: nothing is said about what matches.
pub fn audit(sheet: &Sheet, slots: &[&str]) -> Vec<Remark> {
    let mut all = Vec::new();
    let mut left: Vec<&str> = slots.to_vec();
    for (index, rule) in sheet.rules.iter().enumerate() {
        let span = rule.patterns.span();
        let earlier = &sheet.rules[..index];
        if let Some(other) = earlier.iter().find(|other| same_patterns(other, rule)) {
            let first = line_of(sheet, &other.patterns.span());
            all.push(sheet.fault(&span, OddRule::Second { first }));
        } else if !slots.is_empty() {
            let before = left.len();
            left.retain(|slot| !rule.matches(slot));
            // Of names that no list gives, none may be there yet.
            let waits = rule.new == New::Any && !slots.iter().any(|slot| rule.matches(slot));
            if left.len() == before && !waits {
                all.push(unreached(sheet, index, slots, &span));
            }
        }
    }
    // A name that is no slot's yet may be that of a file which is new.
    let takes_new = sheet.rules.iter().any(|rule| rule.new == New::Any);
    if !slots.is_empty() && !takes_new {
        all.extend(
            beside(sheet)
                .filter(|part| !part.reaches(slots))
                .map(|part| sheet.fault(&part.span, OddRule::Unmatched)),
        );
    }
    for label in sheet.labels.keys() {
        if !slots.is_empty() && !slots.contains(&label.0.as_str()) {
            let at = sheet.origin.text.find(&label.0).unwrap_or_default();
            all.push(sheet.fault(&(at..at + label.0.len()), OddText::NoLabelled));
        }
    }
    all
}

/// An entry, or a file that is made, with what slots it is for.
struct Beside<'s> {
    span: Range<usize>,
    patterns: &'s [Pattern],
    find: Option<&'s regex::Regex>,
}

impl Beside<'_> {
    fn reaches(&self, slots: &[&str]) -> bool {
        let fits = |slot: &&&str| {
            self.patterns.iter().any(|pattern| pattern.matches(slot))
                && self.find.is_none_or(|find| find.is_match(slot))
        };
        slots.iter().any(|slot| fits(&slot))
    }
}

/// What is made beside slots of some names.
fn beside(sheet: &Sheet) -> impl Iterator<Item = Beside<'_>> {
    let entries = sheet.entries.iter().map(|part| {
        let entry = part.get_ref();
        (part.span(), &entry.patterns, entry.find.as_ref())
    });
    let makes = sheet.makes.iter().map(|part| {
        let make = part.get_ref();
        (part.span(), &make.patterns, make.find.as_ref())
    });
    let all = entries.chain(makes).filter(|(_, patterns, _)| !patterns.0.is_empty());
    all.map(|(span, patterns, find)| Beside { span, patterns: &patterns.0, find })
}

/// Why no slot reaches a rule.
fn unreached(sheet: &Sheet, index: usize, slots: &[&str], span: &Range<usize>) -> Remark {
    let rule = &sheet.rules[index];
    let Some(slot) = slots.iter().find(|slot| rule.matches(slot)) else {
        return sheet.fault(span, OddRule::Unmatched);
    };
    let first = sheet.rules.iter().find(|other| other.matches(slot)).unwrap_or(rule);
    sheet.fault(span, OddRule::Covered { first: line_of(sheet, &first.patterns.span()) })
}

fn line_of(sheet: &Sheet, span: &Range<usize>) -> usize {
    sheet.origin.text[..span.start].matches('\n').count() + 1
}

fn same_patterns(a: &Rule, b: &Rule) -> bool {
    a.title() == b.title()
}
