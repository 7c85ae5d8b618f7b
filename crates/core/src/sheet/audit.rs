//! A sheet looked at as a whole, next to the slots that it covers.

use super::{Fault, New, Rule, Sheet};
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
    for label in sheet.labels.keys() {
        if !slots.is_empty() && !slots.contains(&label.0.as_str()) {
            let at = sheet.origin.text.find(&label.0).unwrap_or_default();
            all.push(sheet.fault(&(at..at + label.0.len()), OddText::NoLabelled));
        }
    }
    all
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
