//! Names of files, against a sheet's rules and against those that were typed.

use crate::args::Naming;
use deft_needle_core::names::NameRules;

impl Naming {
    /// What was typed, over what a sheet says.
    pub fn over(&self, rules: &NameRules) -> NameRules {
        NameRules {
            stem_longest: self.name_longest.map(usize::from).or(rules.stem_longest),
            allowed: self.name_allowed.clone().or_else(|| rules.allowed.clone()),
            ..rules.clone()
        }
    }

    /// The rules that were typed; `None` where none was.
    pub fn rules(&self) -> Option<NameRules> {
        let rules = self.over(&NameRules::default());
        (!rules.is_empty()).then_some(rules)
    }
}
