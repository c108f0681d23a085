//! What the statements of one section say, field by field.

use std::fmt::Write as _;

use super::field::FieldValue;
use super::{Admits, Codec, Default, Field, Says, Section, Statement, Value, Writes};
use crate::dialect::{Draft, Remarks, Unwritable, remark};
use crate::profile::{Profile, Text};
use crate::text::Word;
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{Bearing, Certification, IKE_PORT, Origin, ReadAt, Remainder, Setting};
use uspan_model::origins::FollowedKeys;
use uspan_model::source::Place;

/// The fields of a section.
#[derive(Clone, Debug, std::default::Default, PartialEq, Eq)]
pub struct Record {
    /// In the order of the fields.
    values: Vec<(Field, Setting<Value>)>,
    /// Fields whose statements are not understood, and where those stand.
    doubts: Vec<(Field, Place)>,
    /// Statements without a field.
    pub(crate) remainder: Remainder,
}

/// As many fields as most sections say.
const ROOM: usize = 32;

impl Record {
    fn at(&self, field: Field) -> Result<usize, usize> {
        self.values.binary_search_by_key(&field, |(known, _)| *known)
    }

    fn get(&self, field: Field) -> Option<&Setting<Value>> {
        self.at(field).ok().map(|at| &self.values[at].1)
    }

    /// Sets a field, whatever it was before.
    fn set(&mut self, field: Field, setting: Setting<Value>) {
        if self.values.is_empty() {
            self.values.reserve(ROOM);
        }
        match self.at(field) {
            Ok(at) => self.values[at].1 = setting,
            Err(at) => self.values.insert(at, (field, setting)),
        }
    }

    /// The value of a field with its place; `None` if it has none.
    pub(crate) fn setting<T: FieldValue>(&self, field: Field) -> Option<Setting<T>> {
        let found = self.get(field)?;
        let origin = self.doubt(field).map_or_else(|| found.origin.clone(), |place| Origin::Unknown(place.clone()));
        Some(Setting { value: T::out_of(&found.value)?, origin })
    }

    /// The same, with what stands for none.
    pub(crate) fn setting_or<T: FieldValue>(&self, field: Field, none: T) -> Setting<T> {
        self.setting(field).unwrap_or_else(|| self.unsaid(field, none))
    }

    /// The same, where no value is a value of its own.
    pub(crate) fn optional<T: FieldValue>(&self, field: Field) -> Setting<Option<T>> {
        self.setting(field).map_or_else(|| self.unsaid(field, None), |setting| setting.map(Some))
    }

    /// Notes that the statement of a field is not understood.
    pub(crate) fn mark_unknown(&mut self, field: Field, place: Place) {
        self.doubts.push((field, place));
    }

    /// Where the statement of a field stands that is not understood.
    pub(crate) fn doubt(&self, field: Field) -> Option<&Place> {
        self.doubts.iter().find(|(known, _)| *known == field).map(|(_, place)| place)
    }

    fn unsaid<T>(&self, field: Field, none: T) -> Setting<T> {
        match self.doubt(field) {
            Some(place) => Setting::unknown(none, place.clone()),
            None => Setting::default_of(none),
        }
    }

    /// The value of a field.
    pub(crate) fn value<T: FieldValue>(&self, field: Field) -> Option<T> {
        self.get(field).and_then(|found| T::out_of(&found.value))
    }

    /// Whether statements stood there that no row is for.
    pub(crate) fn has_strangers(&self) -> bool {
        self.remainder.0.iter().any(|one| one.keyword.is_empty())
    }

    /// The ports of IKE that two fields say.
    pub(crate) fn ports(&self) -> Setting<[u16; 2]> {
        let [own, peer] = [Field::OwnPort, Field::PeerPort].map(|field| self.setting_or(field, u32::from(IKE_PORT)));
        let port = |one: &Setting<u32>| u16::try_from(one.value).unwrap_or(IKE_PORT);
        let value = [port(&own), port(&peer)];
        let wrong = [&own, &peer].into_iter().find(|one| u16::try_from(one.value).is_err()).and_then(|one| one.origin.place().cloned());
        let doubt = wrong.or(own.doubt().cloned()).or(peer.doubt().cloned());
        let origin = match doubt {
            Some(place) => Origin::Unknown(place),
            None if own.origin == Origin::Default => peer.origin,
            None => own.origin,
        };
        Setting { value, origin }
    }

    /// What two fields say of certificates.
    pub(crate) fn certification(&self) -> Certification {
        Certification {
            any_name: self.setting_or(Field::NamesPeer, true).map(|named| !named),
            withheld: self.setting_or(Field::GivesCertificate, true).map(|given| !given),
            ..Certification::default()
        }
    }

    /// Where a field is said, if it is said at all.
    pub(crate) fn place(&self, field: Field) -> Option<&Place> {
        self.get(field)?.origin.place()
    }

    /// The same as a place of a part.
    pub(crate) fn read_at(&self, field: Field) -> ReadAt {
        ReadAt(self.place(field).cloned())
    }

    /// Takes what a statement says.
    fn take(&mut self, profile: &Profile, row: &Statement, value: &Word, findings: &mut Vec<Finding>) {
        let mut say = |rule: &'static Rule, message: String| findings.push(Finding::new(rule, message).at(value.place.clone()));
        let not_understood = |text: &str| format!("`{text}` for `{}` is not understood", row.keyword);
        let no_value = || format!("`{}` is no value for `{}`, which {} knows", value.value, row.keyword, profile.title);
        if row.refuses(&value.value) {
            say(&rules::DEVICE_VALUE, no_value());
            self.remainder.add(&row.keyword, &value.place, Bearing::Refused);
            if let Some((field, _)) = row.field() {
                self.mark_unknown(field, value.place.clone());
            }
            return;
        }
        match &row.says {
            Says::Field(field, codec) => {
                let read = codec.read(profile, &value.value);
                if row.is_aside && !read.wrong.is_empty() {
                    self.remainder.add(&row.keyword, &value.place, Bearing::Aside);
                    return;
                }
                for wrong in &read.wrong {
                    if row.beside.is_some_and(|takes| takes(profile, wrong)) || row.is_number_for_word(wrong) {
                        say(&rules::DEVICE_UNKNOWN, not_understood(wrong));
                        continue;
                    }
                    say(&rules::DEVICE_VALUE, format!("`{wrong}` is not {}", field.expected()));
                    self.remainder.add(&row.keyword, &value.place, Bearing::Refused);
                }
                if !read.wrong.is_empty() {
                    self.mark_unknown(*field, value.place.clone());
                } else if let Some(read) = read.value {
                    self.set(*field, Setting::stated(read, value.place.clone()));
                }
            }
            Says::Only(values, bearing) if !is_among(values, &value.value) => {
                match bearing {
                    Bearing::Aside => {}
                    Bearing::Refused => say(&rules::DEVICE_VALUE, no_value()),
                    _ => say(&rules::DEVICE_UNKNOWN, not_understood(&value.value)),
                }
                self.remainder.add(&row.keyword, &value.place, *bearing);
            }
            Says::Only(..) | Says::Nothing(_) => {}
        }
    }

    /// Sets a field that is planned.
    pub(crate) fn plan<T: FieldValue>(&mut self, field: Field, value: T) {
        self.set(field, Setting::planned(value.into_value()));
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

/// Which of several statements of one keyword counts; an empty one is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Counts {
    /// The first one.
    First,
    /// The last one.
    Last,
}

/// Whether a row of sections is for a keyword.
pub(crate) fn is_known(profile: &Profile, sections: &[Section], keyword: &Word) -> bool {
    profile.statements.find(sections, &keyword.value).is_some()
}

/// How many statements of sections are none that the platform takes.
pub(crate) fn misfits(profile: &Profile, sections: &[Section], found: Found<'_>) -> usize {
    let fits = |keyword: &Word, value: &Word| {
        let Some(row) = profile.statements.find(sections, &keyword.value) else { return false };
        let text = value.value.as_str();
        // Where its parser is known to take any text, whether that is a value.
        let is_value = || {
            let wrong = row.field().map_or_else(Vec::new, |(_, codec)| codec.read(profile, text).wrong);
            row.is_aside || row.admits != Admits::Any || wrong.iter().all(|part| row.beside.is_some_and(|takes| takes(profile, part)))
        };
        text.is_empty() || !row.refuses(text) && is_value()
    };
    found.iter().filter(|(keyword, value)| !fits(keyword, value)).count()
}

/// Names the statements of sections that no row is for.
pub(crate) fn name_unknown<'a>(
    profile: &Profile,
    sections: &[Section],
    keywords: impl IntoIterator<Item = &'a Word>,
    findings: &mut Vec<Finding>,
) {
    for keyword in keywords {
        if !is_known(profile, sections, keyword) {
            let message = format!("the setting `{}` is not understood", keyword.value);
            findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(keyword.place.clone()));
        }
    }
}

/// Names the keywords of sections that the daemon does not know, for which it does not take a connection: `loses` says what it loses.
pub(crate) fn name_refused<'a>(
    profile: &Profile,
    sections: &[Section],
    keywords: impl IntoIterator<Item = &'a Word>,
    loses: &str,
    findings: &mut Vec<Finding>,
) {
    for keyword in keywords {
        if !is_known(profile, sections, keyword) {
            let message = format!("`{}` is no setting of {}, which {loses}", keyword.value, profile.title);
            findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(keyword.place.clone()));
        }
    }
}

/// Reads the statements of sections that stand together. Total: what is not understood is reported.
pub(crate) fn read_section(
    profile: &Profile,
    sections: &[Section],
    found: Found<'_>,
    counts: Counts,
    findings: &mut Vec<Finding>,
) -> Record {
    let mut record = Record::default();
    let (said, strangers) = by_row(profile, sections, found, counts);
    for (row, value) in said {
        record.take(profile, row, value, findings);
    }
    for place in strangers {
        // What it is called may be anything, and is not told.
        record.remainder.add("", place, Bearing::Unknown);
    }
    for (row, spelled) in profile.statements.with_default(profile) {
        let Some((field, _)) = row.field().filter(|(field, _)| sections.contains(&row.section) && record.at(*field).is_err()) else {
            continue;
        };
        let value = match &row.default {
            Default::Derived(derive) => derive(profile, &record),
            Default::Spelled(_) | Default::Absent => spelled.cloned(),
        };
        if let Some(value) = value {
            record.set(field, Setting { value, origin: Origin::Default });
        }
    }
    record
}

/// What is said of each row, in the order of the rows; and where statements stand that no row is for.
fn by_row<'a>(
    profile: &'a Profile,
    sections: &'a [Section],
    found: Found<'a>,
    counts: Counts,
) -> (Vec<(&'a Statement, &'a Word)>, Vec<&'a Place>) {
    let (mut said, mut strangers) = (Vec::with_capacity(found.len()), Vec::new());
    for (keyword, value) in found {
        let before = said.len();
        said.extend(profile.statements.places(sections, &keyword.value).map(|at| (at, value)));
        if said.len() == before {
            strangers.push(&keyword.place);
        }
    }
    said.sort_by_key(|(at, _)| *at);
    let each = said.chunk_by(|(one, _), (other, _)| one == other).filter_map(|of_row| {
        let mut values = of_row.iter().map(|(_, value)| *value);
        let value = match counts {
            Counts::First => values.find(|value| !value.value.is_empty()),
            Counts::Last => values.next_back().filter(|value| !value.value.is_empty()),
        };
        Some((&profile.statements[of_row[0].0], value?))
    });
    (each.collect(), strangers)
}

/// Whether a text is one of several values, of which those for yes and no have several words.
fn is_among(values: &[Text], text: &str) -> bool {
    values.iter().any(|one| one.eq_ignore_ascii_case(text) || Codec::flag(one).is_some() && Codec::flag(one) == Codec::flag(text))
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
pub(crate) struct LineLayout<'a> {
    /// What stands before each line.
    pub indent: &'a str,
    /// What stands between a keyword and its value.
    pub between: &'a str,
    /// The remarks, and the place of the Child SA that they are of.
    pub remarks: &'a Remarks,
    /// The place of the Child SA among those of its connection.
    pub child: usize,
}

/// The statements of a section that are written, with their values as text.
///
/// # Errors
/// What they cannot say.
pub(crate) fn spelled_section<'a>(
    profile: &'a Profile,
    section: Section,
    record: &Record,
) -> Result<Vec<(&'a Statement, String)>, Vec<Unwritable>> {
    let mut spelled = Vec::with_capacity(record.values.len());
    for row in profile.statements.written(section) {
        let Some((field, codec)) = row.field() else { continue };
        let Some(setting) = record.get(field) else { continue };
        if row.writes == Writes::UnlessDefault && default(profile, row, record).as_ref() == Some(&setting.value) {
            continue;
        }
        match codec.write(profile, &setting.value)? {
            Some(text) => spelled.push((row, text)),
            // Another keyword means that.
            None if matches!(codec, Codec::Alone(_)) => {}
            None => {
                return Err(vec![match &row.cannot {
                    Some((what, remedy)) => Unwritable::new(what.to_string(), remedy.to_string()),
                    None => Unwritable::new(
                        format!("{:?} for `{}`, which {} has no word for", setting.value, row.keyword, profile.title),
                        "Choose another value.",
                    ),
                }]);
            }
        }
    }
    Ok(spelled)
}

/// Writes the statements of a section, one a line.
///
/// # Errors
/// What they cannot say.
pub(crate) fn write_section(
    out: &mut Draft,
    profile: &Profile,
    section: Section,
    record: &Record,
    layout: &LineLayout<'_>,
) -> Result<(), Vec<Unwritable>> {
    for (row, text) in spelled_section(profile, section, record)? {
        if let Some(about) = row.about {
            remark(out, layout.indent, about.of(layout.remarks, layout.child));
        }
        if let Some(note) = &row.note {
            // What it explains is no choice of the description, unless that is said above.
            if row.about.is_none() {
                out.follows(FollowedKeys::NONE);
            }
            let _ = writeln!(out, "{}# {note}", layout.indent);
        }
        out.extend([layout.indent, &row.keyword, layout.between, &text, "\n"]);
    }
    Ok(())
}
