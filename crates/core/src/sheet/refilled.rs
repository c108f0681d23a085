//! What a filled-in sheet made of a description.

use super::fill::{is_none, network_name};
use super::form::{Form, FormField, in_list};
use uspan_model::finding::Finding;

/// What came of reading a filled-in sheet.
#[derive(Clone, Debug, Default)]
pub struct Refilled {
    /// The description with what was filled in; nothing where something could not be read.
    pub text: Option<String>,
    /// What was filled in.
    pub changed: Vec<FilledIn>,
    /// What could not be read, and what was left out.
    pub findings: Vec<Finding>,
}

/// A field that was filled in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FilledIn {
    /// Its code.
    pub field: String,
    /// As it was proposed.
    pub before: String,
    /// As the partner wrote it.
    pub written: String,
}

impl FilledIn {
    /// The list of proposals that it is one of, and its number there.
    fn in_list(&self) -> Option<(&'static str, usize)> {
        let (list, number) = in_list(&self.field)?;
        Some((list, number.parse().ok()?))
    }
}

impl Refilled {
    /// What each field that was filled in says now, in the sheet's words. `form` was filled in, `now` is that of the description that came
    /// of it; networks that stood in one cell are there, each for itself.
    pub fn now(&self, form: &Form, now: &Form) -> Vec<(FilledIn, String)> {
        let rows = |form: &Form, list: &str| form.fields.iter().filter(|field| field.list() == Some(list)).count();
        let dropped = |list: &str, before: usize| {
            let is_one = |one: &&FilledIn| one.in_list().is_some_and(|(of, number)| of == list && number < before) && is_none(&one.written);
            self.changed.iter().filter(is_one).count()
        };
        let found =
            |code: &str| now.fields.iter().find(|field| field.code == code).map(|field| &field.proposed).filter(|text| !text.is_empty());
        let says = |one: &FilledIn| match one.in_list() {
            _ if is_none(&one.written) => Some("none".to_owned()),
            // Where one row became several, the numbers of the others say nothing.
            Some((list, _)) if rows(form, list) - dropped(list, usize::MAX) != rows(now, list) => None,
            Some((list, number)) => found(&format!("{list} {}", number - dropped(list, number))).cloned(),
            None => found(&one.field).cloned(),
        };
        let told = self.changed.iter().map(|one| (one.clone(), says(one).unwrap_or_else(|| one.written.clone())));
        let is_known = |field: &FormField| {
            form.fields.iter().any(|known| known.code == field.code) || self.changed.iter().any(|one| one.field == field.code)
        };
        let more = now.fields.iter().filter(|field| network_name(&field.code).is_some() && !is_known(field));
        told.chain(more.map(|field| (FilledIn { field: field.code.clone(), ..FilledIn::default() }, field.proposed.clone()))).collect()
    }
}
