//! What a file cannot say.

use uspan_model::finding::{self as rules, Finding};

/// Something that a platform's files cannot say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unwritable {
    /// What it is, in the trade's words.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

impl Unwritable {
    /// An identity that the files do not say.
    pub(crate) fn no_identity() -> Self {
        Unwritable::new("an end whose identity is not said", "Say it.")
    }

    /// As a finding about the files of a site.
    pub fn finding(self, site: &str) -> Finding {
        Finding::new(&rules::CANNOT_BE_WRITTEN, format!("{site} cannot be told: {}", self.what)).remedy(self.remedy)
    }

    /// What files would not say as it is meant, for the platform or filter of this name.
    pub(crate) fn lost(differences: Vec<String>, title: &str) -> Vec<Unwritable> {
        let each = differences.into_iter().map(|what| format!("{what}, which {title} cannot say like that"));
        each.map(|what| Unwritable::new(what, "Choose another value.")).collect()
    }

    /// A value and a way out.
    pub fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Unwritable { what: what.into(), remedy: remedy.into() }
    }
}
