//! A sheet looked at as a whole, next to the slots that it covers.

use super::rule::Accepted;
use super::validate::is_written;
use super::{Fault, Rule, Sheet};
use deft_needle_audio::Spec;
use std::ops::Range;

/// Something in a sheet that is no mistake by itself, and seldom meant.
pub type Remark = Fault;

/// What is odd about a sheet: rules that no slot reaches, files that cannot be made here. `slots` are
/// all names that are known; none: nothing is said about what matches.
pub fn audit(sheet: &Sheet, slots: &[&str]) -> Vec<Remark> {
    let mut all = Vec::new();
    let mut left: Vec<&str> = slots.to_vec();
    for (index, rule) in sheet.rules.iter().enumerate() {
        let span = rule.patterns.span();
        let earlier = &sheet.rules[..index];
        if let Some(other) = earlier.iter().find(|other| same_patterns(other, rule)) {
            let what =
                format!("never counts: {} comes first", place(sheet, &other.patterns.span()));
            all.push(sheet.fault(
                &span,
                what,
                "the first rule that matches a slot counts: put the narrower one first",
            ));
        } else if !slots.is_empty() {
            let before = left.len();
            left.retain(|slot| !rule.matches(slot));
            if left.len() == before {
                all.push(unreached(sheet, index, slots, &span));
            }
        }
        if let Accepted::Sound(specs) = rule.spec.get_ref()
            && let Some(format) = specs.first().and_then(Spec::written)
            && !is_written(format)
        {
            all.push(sheet.fault(
                &rule.spec.span(),
                format!("{} {} is read here and not written", format.container, format.encoding),
                "files can be checked with this rule; write another alternative first to make them",
            ));
        }
    }
    for label in sheet.labels.keys() {
        if !slots.is_empty() && !slots.contains(&label.0.as_str()) {
            let at = sheet.origin.text.find(&label.0).unwrap_or_default();
            all.push(sheet.fault(
                &(at..at + label.0.len()),
                "a label for a slot that there is not",
                "",
            ));
        }
    }
    all
}

/// Why no slot reaches a rule.
fn unreached(sheet: &Sheet, index: usize, slots: &[&str], span: &Range<usize>) -> Remark {
    let rule = &sheet.rules[index];
    let Some(slot) = slots.iter().find(|slot| rule.matches(slot)) else {
        return sheet.fault(
            span,
            "no slot matches this rule",
            "check the pattern: * stays within a name, ** goes into folders",
        );
    };
    let first = sheet.rules.iter().find(|other| other.matches(slot));
    let place = first.map_or_else(String::new, |other| place(sheet, &other.patterns.span()));
    sheet.fault(
        span,
        format!("never counts: every slot that it matches is taken by {place}"),
        "the first rule that matches a slot counts: put the narrower one first",
    )
}

fn place(sheet: &Sheet, span: &Range<usize>) -> String {
    let line = sheet.origin.text[..span.start].matches('\n').count() + 1;
    format!("the rule in line {line}")
}

fn same_patterns(a: &Rule, b: &Rule) -> bool {
    a.title() == b.title()
}
