//! Statements: a keyword of a platform's files, what it says of the hub model, and how its value is spelled.
//!
//! A row both writes and reads. Which keywords are known, what holds where nothing is said, and what a release cannot say follow from the
//! rows; a syntax (a tree of sections, lines of `key=value`) lays them out and finds them.

mod codec;
mod field;
mod list;
mod record;

pub use codec::{Codec, Spelling};
pub(crate) use codec::{of_another_kind, words};
pub use field::{Field, ProtocolPort, Selector, Value};
pub use list::Statements;
pub use record::Record;
pub(crate) use record::{Counts, LineLayout, is_known, misfits, name_refused, name_unknown, read_section, spelled_section, write_section};

use std::borrow::Cow;

use crate::dialect::Remarks;
use crate::profile::{Profile, Text};
use uspan_model::gateway::Bearing;
use uspan_model::origins::FollowedKeys;

/// Where a statement stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Section {
    /// What is said for the whole daemon.
    Daemon,
    /// What is said of a peer.
    Connection,
    /// What is said of the own end, where that has a section of its own.
    LocalEnd,
    /// The same of the peer's end.
    RemoteEnd,
    /// What is said of a Child SA.
    Child,
}

/// What a statement comes to.
#[derive(Clone, Debug)]
pub enum Says {
    /// It sets a field.
    Field(Field, Codec),
    /// It changes nothing where it says one of these; anything else bears on what the hub has no field for.
    Only(Cow<'static, [Text]>, Bearing),
    /// It changes nothing that matters here, for this reason; a syntax may look at it by itself.
    Nothing(Text),
}

/// What holds where a statement is left out.
#[derive(Clone, Debug)]
pub enum Default {
    /// Nothing: the field has no value.
    Absent,
    /// This, as the platform spells it.
    Spelled(Text),
    /// What follows from the other fields.
    Derived(fn(&Profile, &Record) -> Option<Value>),
}

/// What a daemon's parser takes for a statement, whatever it means.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Admits {
    /// Any text, as far as the parser is concerned.
    #[default]
    Any,
    /// A word for yes or no.
    Flag(&'static [&'static str]),
    /// One of these words, or a number that stands for one.
    Words(&'static [&'static str]),
    /// Some of these words, with commas or blanks between them; `no-` takes one back.
    List(&'static [&'static str]),
    /// No number without a percent sign.
    Percent,
    /// One of these words, and nothing else.
    Exactly(&'static [&'static str]),
    /// One of these words, or a whole number in digits up to this base, with one of these units behind it.
    Number {
        /// The words.
        words: &'static [&'static str],
        /// The base of the digits.
        base: u32,
        /// The units, of which an empty one is none.
        units: &'static [&'static str],
    },
    /// A mark and its mask, each a number or the word for one of its own.
    Mark,
}

impl Admits {
    /// Whether the parser takes a text.
    fn admits(&self, text: &str) -> bool {
        let is_one = |words: &[&str]| words.iter().any(|word| word.eq_ignore_ascii_case(text));
        let is_number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        match self {
            Admits::Any => true,
            Admits::Flag(words) => is_one(words),
            Admits::Words(words) => is_one(words) || is_number(text) || text == "%forever",
            Admits::List(words) => {
                let mut items = text.split([',', ' ']).filter(|item| !item.is_empty());
                is_number(text) || text == "%forever" || items.all(|item| words.contains(&item.strip_prefix("no-").unwrap_or(item)))
            }
            Admits::Percent => !is_number(text) && text != "%forever",
            Admits::Exactly(words) => words.contains(&text),
            Admits::Number { words, base, units } => {
                let digits = text.find(|c: char| !c.is_digit(*base)).unwrap_or(text.len());
                words.contains(&text) || digits > 0 && units.contains(&&text[digits..])
            }
            Admits::Mark => {
                let number = |text: &str| match text.strip_prefix("0x") {
                    Some(digits) => u32::from_str_radix(digits, 16).is_ok(),
                    None => text.parse::<u32>().is_ok(),
                };
                let (mark, mask) = text.split_once('/').map_or((text, None), |(mark, mask)| (mark, Some(mask)));
                (number(mark) || ["%unique", "%unique-dir"].contains(&mark)) && mask.is_none_or(number)
            }
        }
    }
}

/// When a statement is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Writes {
    /// Wherever its field has a value.
    Always,
    /// Where the value is not the one that holds without it.
    UnlessDefault,
    /// Never: it is another way to say what a row above it says.
    Never,
}

/// Which part of the description a statement follows from, for remarks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum About {
    /// Addresses.
    Addresses,
    /// Proposals for IKE.
    Ike,
    /// The life of the IKE SA.
    IkeLifetime,
    /// Routes.
    Routes,
    /// Liveness.
    Liveness,
    /// Identities.
    Identities,
    /// The selectors of a Child SA, by its place.
    Selectors,
    /// Proposals for ESP.
    Esp,
    /// The life of the ESP SAs.
    EspLifetime,
    /// Who opens it.
    Opening,
    /// The secret, or what stands for it.
    Secret,
}

impl About {
    /// The remark, in the Child SA at this place.
    pub(crate) fn of(self, remarks: &Remarks, child: usize) -> &FollowedKeys {
        match self {
            About::Addresses => &remarks.addresses,
            About::Ike => &remarks.ike,
            About::IkeLifetime => &remarks.ike_lifetime,
            About::Routes => &remarks.routes,
            About::Liveness => &remarks.liveness,
            About::Identities => &remarks.identities,
            About::Selectors => remarks.selectors.get(child).unwrap_or(FollowedKeys::NONE),
            About::Esp => &remarks.esp,
            About::EspLifetime => &remarks.esp_lifetime,
            About::Opening => &remarks.opening,
            About::Secret => &remarks.secret,
        }
    }
}

/// A row: a statement of a platform in one release.
#[derive(Clone, Debug)]
pub struct Statement {
    /// The keyword.
    pub keyword: Text,
    /// Where it stands.
    pub section: Section,
    /// What it comes to.
    pub says: Says,
    /// What holds without it.
    pub default: Default,
    /// When it is written.
    pub writes: Writes,
    /// The remark above it, where it is the first of several that follow from the same.
    pub about: Option<About>,
    /// A comment that always stands above it.
    pub note: Option<Text>,
    /// What cannot be said with it and what to do then, where the codec has no word for a value.
    pub cannot: Option<(Text, Text)>,
    /// Why another value may change nothing that the hub has; `None` if it always does, or is named.
    pub spares: Option<Text>,
    /// Values that the daemon takes and the program does not understand: they are named, and not blamed.
    pub beside: Option<fn(&Profile, &str) -> bool>,
    /// Any other value decides nothing: it is kept to be told.
    pub is_aside: bool,
    /// What the daemon's parser takes, where that is less than any text.
    pub admits: Admits,
}

impl Statement {
    /// A row that is written wherever its field has a value.
    pub(crate) fn new(section: Section, keyword: &'static str, field: Field, codec: Codec) -> Statement {
        Statement {
            keyword: Cow::Borrowed(keyword),
            section,
            says: Says::Field(field, codec),
            default: Default::Absent,
            writes: Writes::Always,
            about: None,
            note: None,
            cannot: None,
            spares: None,
            beside: None,
            is_aside: false,
            admits: Admits::Any,
        }
    }

    /// A row whose keyword stands alone, and means this.
    pub(crate) fn alone(section: Section, keyword: &'static str, field: Field, means: Value) -> Statement {
        Statement::new(section, keyword, field, Codec::Alone(means))
    }

    /// A row that changes nothing that matters.
    pub(crate) fn idle(section: Section, keyword: &'static str, why: &'static str) -> Statement {
        Statement { says: Says::Nothing(Cow::Borrowed(why)), ..Statement::new(section, keyword, Field::Version, Codec::Flag) }
    }

    /// A row that changes nothing where it says one of these.
    pub(crate) fn only<const N: usize>(section: Section, keyword: &'static str, values: [&'static str; N]) -> Statement {
        Statement::bearing(section, keyword, values, Bearing::Unknown)
    }

    /// A row that changes nothing where it says one of these, and else bears on this.
    pub(crate) fn bearing<const N: usize>(
        section: Section,
        keyword: &'static str,
        values: [&'static str; N],
        bearing: Bearing,
    ) -> Statement {
        let values = Cow::Owned(values.map(Cow::Borrowed).to_vec());
        Statement { says: Says::Only(values, bearing), ..Statement::new(section, keyword, Field::Version, Codec::Flag) }
    }

    /// A row that decides neither whether the tunnel comes up, nor what it carries, nor how that is protected: another value than these
    /// is kept to be told, for this reason.
    pub(crate) fn aside<const N: usize>(
        section: Section,
        keyword: &'static str,
        values: [&'static str; N],
        why: &'static str,
    ) -> Statement {
        Statement::bearing(section, keyword, values, Bearing::Aside).spares(why)
    }

    /// The same, not written: another row says the same.
    pub(crate) fn unwritten(self) -> Statement {
        Statement { writes: Writes::Never, ..self }
    }

    /// The same with what holds without it, as the platform spells it.
    pub(crate) fn or(self, spelled: &'static str) -> Statement {
        Statement { default: Default::Spelled(Cow::Borrowed(spelled)), ..self }
    }

    /// The same with what follows from the other fields without it.
    pub(crate) fn or_derived(self, derive: fn(&Profile, &Record) -> Option<Value>) -> Statement {
        Statement { default: Default::Derived(derive), ..self }
    }

    /// The same, of which the daemon's parser takes this.
    pub(crate) fn admitting(self, admits: Admits) -> Statement {
        Statement { admits, ..self }
    }

    /// The same of another keyword.
    pub(crate) fn called(self, keyword: String) -> Statement {
        Statement { keyword: Cow::Owned(keyword), ..self }
    }

    /// The same, written only where the value is not the one that holds without it.
    pub(crate) fn unless_default(self) -> Statement {
        Statement { writes: Writes::UnlessDefault, ..self }
    }

    /// The same under a remark.
    pub(crate) fn about(self, about: About) -> Statement {
        Statement { about: Some(about), ..self }
    }

    /// The same under a comment.
    pub(crate) fn note(self, note: &'static str) -> Statement {
        Statement { note: Some(Cow::Borrowed(note)), ..self }
    }

    /// The same with what cannot be said with it.
    pub(crate) fn cannot(self, what: &'static str, remedy: &'static str) -> Statement {
        Statement { cannot: Some((Cow::Borrowed(what), Cow::Borrowed(remedy))), ..self }
    }

    /// The same with the reason why another value may change nothing.
    pub(crate) fn spares(self, why: &'static str) -> Statement {
        Statement { spares: Some(Cow::Borrowed(why)), ..self }
    }

    /// Whether two texts are the same value to it; two that are none are.
    pub fn is_same(&self, profile: &Profile, one: &str, other: &str) -> bool {
        self.field().is_some_and(|(_, codec)| codec.read(profile, one).value == codec.read(profile, other).value)
    }

    /// Whether a text is a number that stands for a word which the hub does not know by that.
    pub(crate) fn is_number_for_word(&self, text: &str) -> bool {
        matches!(&self.admits, Admits::Words(words) if !words.contains(&text)) && self.admits.admits(text)
    }

    /// Whether the daemon's parser refuses a text for it.
    pub(crate) fn refuses(&self, text: &str) -> bool {
        !self.admits.admits(text)
    }

    /// Whether a text is the value that holds without it.
    pub fn default_is(&self, profile: &Profile, text: &str) -> bool {
        match (&self.default, self.field()) {
            (Default::Spelled(default), Some((_, codec))) => codec.read(profile, default).value == codec.read(profile, text).value,
            // What follows from other fields is not known here.
            (Default::Derived(_), Some(_)) => true,
            _ => false,
        }
    }

    /// The same with values that the daemon takes beside those that are understood.
    pub(crate) fn beside(self, takes: fn(&Profile, &str) -> bool) -> Statement {
        Statement { beside: Some(takes), ..self }
    }

    /// The same, where any other value decides nothing.
    pub(crate) fn aside_else(self) -> Statement {
        Statement { is_aside: true, ..self }
    }

    /// The field that it sets, and how.
    pub(crate) fn field(&self) -> Option<(Field, &Codec)> {
        match &self.says {
            Says::Field(field, codec) => Some((*field, codec)),
            Says::Only(..) | Says::Nothing(_) => None,
        }
    }
}
