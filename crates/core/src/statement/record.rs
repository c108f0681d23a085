//! What the statements of one section say, field by field.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use super::field::FieldValue;
use super::{Default, Field, Says, Section, Statement, Value, Writes};
use crate::dialect::{Remarks, Unwritable, remark};
use crate::finding::{self as rules, Finding};
use crate::gateway::{Origin, ReadAt, Setting};
use crate::platform::Profile;
use crate::platform::text::Word;
use crate::source::Place;

/// The fields of a section.
#[derive(Clone, Debug, std::default::Default, PartialEq, Eq)]
pub struct Record {
    values: BTreeMap<Field, Setting<Value>>,
}

impl Record {
    /// The value of a field with its place; `None` if it has none.
    pub(crate) fn setting<T: FieldValue>(&self, field: Field) -> Option<Setting<T>> {
        let found = self.values.get(&field)?;
        Some(Setting { value: T::out_of(&found.value)?, origin: found.origin.clone() })
    }

    /// The same, with what stands for none.
    pub(crate) fn setting_or<T: FieldValue>(&self, field: Field, none: T) -> Setting<T> {
        self.setting(field).unwrap_or(Setting::default_of(none))
    }

    /// The same, where no value is a value of its own.
    pub(crate) fn optional<T: FieldValue>(&self, field: Field) -> Setting<Option<T>> {
        self.setting(field).map_or(Setting::default_of(None), |setting| setting.map(Some))
    }

    /// The value of a field.
    pub(crate) fn value<T: FieldValue>(&self, field: Field) -> Option<T> {
        self.values.get(&field).and_then(|found| T::out_of(&found.value))
    }

    /// Where a field is said, if it is said at all.
    pub(crate) fn place(&self, field: Field) -> Option<&Place> {
        self.values.get(&field)?.origin.place()
    }

    /// The same as a place of a part.
    pub(crate) fn read_at(&self, field: Field) -> ReadAt {
        ReadAt(self.place(field).cloned())
    }

    /// Sets a field that is planned.
    pub(crate) fn plan<T: FieldValue>(&mut self, field: Field, value: T) {
        self.values.insert(field, Setting::planned(value.into_value()));
    }

    /// Sets a field that is planned, where it has a value.
    pub(crate) fn plan_some<T: FieldValue>(&mut self, field: Field, value: Option<T>) {
        if let Some(value) = value {
            self.plan(field, value);
        }
    }
}

/// A section as a syntax found it: keywords and values in the order of the file.
pub(crate) type Found<'a> = &'a [(Word, Word)];

/// Reads the statements of a section. The last one of a keyword counts, and an empty value is none. Total: what is not understood is
/// reported.
pub(crate) fn read_section(profile: &Profile, section: Section, found: Found<'_>, findings: &mut Vec<Finding>) -> Record {
    let mut record = Record::default();
    let rows = || profile.statements.iter().filter(move |row| row.section == section);
    for (keyword, _) in found {
        if !rows().any(|row| row.keyword == keyword.value) {
            let message = format!("the setting `{}` is not understood", keyword.value);
            findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(keyword.place.clone()));
        }
    }
    for row in rows() {
        let Says::Field(field, codec) = &row.says else { continue };
        let last = found.iter().rfind(|(keyword, _)| keyword.value == row.keyword).map(|(_, value)| value);
        let Some(value) = last.filter(|value| !value.value.is_empty()) else { continue };
        let read = codec.read(profile, &value.value);
        for wrong in read.wrong {
            let (rule, message) = match row.beside.is_some_and(|takes| takes(&wrong)) {
                true => (&rules::DEVICE_UNKNOWN, format!("`{wrong}` for `{}` is not understood", row.keyword)),
                false => (&rules::DEVICE_VALUE, format!("`{wrong}` is not {}", field.expected())),
            };
            findings.push(Finding::new(rule, message).at(value.place.clone()));
        }
        if let Some(read) = read.value {
            record.values.insert(*field, Setting::stated(read, value.place.clone()));
        }
    }
    for row in rows() {
        let Some((field, _)) = row.field() else { continue };
        if !record.values.contains_key(&field)
            && let Some(value) = default(profile, row, &record)
        {
            record.values.insert(field, Setting { value, origin: Origin::Default });
        }
    }
    record
}

/// What holds without a statement.
fn default(profile: &Profile, row: &Statement, record: &Record) -> Option<Value> {
    let (_, codec) = row.field()?;
    match &row.default {
        Default::Absent => None,
        Default::Spelled(text) => codec.read(profile, text).value,
        Default::Derived(derive) => derive(profile, record),
    }
}

/// Where and how statements are laid out.
pub(crate) struct Layout<'a> {
    /// What stands before each line.
    pub indent: &'a str,
    /// What stands between a keyword and its value.
    pub between: &'a str,
    /// The remarks, and the place of the Child SA that they are of.
    pub remarks: &'a Remarks,
    /// The place of the Child SA among those of its connection.
    pub child: usize,
}

/// Writes the statements of a section, one a line.
///
/// # Errors
/// What they cannot say.
pub(crate) fn write_section(
    out: &mut String,
    profile: &Profile,
    section: Section,
    record: &Record,
    layout: &Layout<'_>,
) -> Result<(), Vec<Unwritable>> {
    for row in profile.statements.iter().filter(|row| row.section == section && row.writes != Writes::Never) {
        let Some((field, codec)) = row.field() else { continue };
        let Some(setting) = record.values.get(&field) else { continue };
        if row.writes == Writes::UnlessDefault && default(profile, row, record).as_ref() == Some(&setting.value) {
            continue;
        }
        let text = codec.write(profile, &setting.value)?.ok_or_else(|| {
            vec![match &row.cannot {
                Some((what, remedy)) => Unwritable::new(what.to_string(), remedy.to_string()),
                None => Unwritable::new(
                    format!("{:?} for `{}`, which {} has no word for", setting.value, row.keyword, profile.title),
                    "Choose another value.",
                ),
            }]
        })?;
        if let Some(about) = row.about {
            remark(out, layout.indent, about.of(layout.remarks, layout.child));
        }
        if let Some(note) = &row.note {
            let _ = writeln!(out, "{}# {note}", layout.indent);
        }
        out.extend([layout.indent, &row.keyword, layout.between, &text, "\n"]);
    }
    Ok(())
}
