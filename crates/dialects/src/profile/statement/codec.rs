//! How values are spelled.

use std::borrow::Cow;
use std::time::Duration;

use super::{Text, Value};
use crate::dialect::Unwritable;
use crate::profile::Profile;

/// How the values of a statement are spelled.
#[derive(Clone, Debug)]
pub enum Codec {
    /// Yes or no: written so; read as well as `true` and `false`, `1` and `0`, `enabled` and `disabled`.
    Flag,
    /// A whole number.
    Number,
    /// A duration: written in seconds, read with or without a unit.
    Time,
    /// One of several words. The first word of a value is written, all are read.
    Words(Cow<'static, [(Text, Value)]>),
    /// As the platform's family spells it.
    Own(Spelling),
    /// The keyword stands alone, and means this.
    Alone(Value),
    /// A list, each item as the platform's family spells it: proposals or selectors. It is written with this text between the items, and
    /// read with commas.
    Items(Spelling, &'static str),
}

/// One of these words.
pub(crate) fn words<const N: usize>(list: [(&'static str, Value); N]) -> Codec {
    Codec::Words(list.into_iter().map(|(word, value)| (Cow::Borrowed(word), value)).collect::<Vec<_>>().into())
}

/// That a value is not of the kind that a row has.
pub(crate) fn of_another_kind() -> Vec<Unwritable> {
    vec![Unwritable::new("a value of another kind", "Choose another value.")]
}

/// What was read of a text.
pub(crate) struct Read {
    /// The value, as far as it is one.
    pub value: Option<Value>,
    /// Parts that are no values.
    pub wrong: Vec<String>,
}

/// How a family spells the values of a statement.
#[derive(Clone, Copy, Debug)]
pub struct Spelling {
    /// The text of a value.
    pub write: fn(&Profile, &Value) -> Result<String, Vec<Unwritable>>,
    /// The value of a text; `None` if it is none.
    pub read: fn(&Profile, &str) -> Option<Value>,
}

impl Codec {
    /// The words for yes and no that several syntaxes share; the first of each is written.
    const FLAGS: [(&'static str, bool); 8] =
        [("yes", true), ("no", false), ("true", true), ("false", false), ("1", true), ("0", false), ("enabled", true), ("disabled", false)];

    /// What a word for yes or no means.
    pub(crate) fn flag(text: &str) -> Option<bool> {
        Codec::FLAGS.iter().find(|(word, _)| word.eq_ignore_ascii_case(text)).map(|(_, flag)| *flag)
    }

    /// The text of a value; `Ok(None)` if it has no word for that.
    ///
    /// # Errors
    /// What the platform cannot say of it.
    pub(crate) fn write(&self, profile: &Profile, value: &Value) -> Result<Option<String>, Vec<Unwritable>> {
        Ok(match (self, value) {
            (Codec::Flag, Value::Flag(flag)) => Some((if *flag { "yes" } else { "no" }).to_owned()),
            (Codec::Number, Value::Number(number)) => Some(number.to_string()),
            // Parts of a second would be lost.
            (Codec::Time, Value::Time(time)) => (time.subsec_nanos() == 0).then(|| time.as_secs().to_string() + "s"),
            (Codec::Words(words), value) => words.iter().find(|(_, known)| known == value).map(|(word, _)| word.to_string()),
            (Codec::Own(spelling), value) => Some((spelling.write)(profile, value)?),
            (Codec::Alone(means), value) => (means == value).then(String::new),
            (Codec::Items(spelling, between), value) => {
                let (words, refused): (Vec<_>, Vec<_>) =
                    items(value).iter().map(|item| (spelling.write)(profile, item)).partition(Result::is_ok);
                if !refused.is_empty() {
                    return Err(refused.into_iter().filter_map(Result::err).flatten().collect());
                }
                Some(words.into_iter().filter_map(Result::ok).collect::<Vec<_>>().join(between))
            }
            _ => None,
        })
    }

    /// The value of a text.
    pub(crate) fn read(&self, profile: &Profile, text: &str) -> Read {
        if let Codec::Items(spelling, _) = self {
            let (mut value, mut wrong) = (None, Vec::new());
            for item in text.split(',').map(str::trim).filter(|item| !item.is_empty()) {
                match (spelling.read)(profile, item) {
                    Some(read) => value = Some(joined(value, read)),
                    None => wrong.push(item.to_owned()),
                }
            }
            return Read { value, wrong };
        }
        let value = self.whole(profile, text);
        let wrong = if value.is_some() { Vec::new() } else { vec![text.to_owned()] };
        Read { value, wrong }
    }

    fn whole(&self, profile: &Profile, text: &str) -> Option<Value> {
        match self {
            Codec::Flag => Codec::flag(text).map(Value::Flag),
            Codec::Number => text.parse().ok().map(Value::Number),
            Codec::Time => match text.parse() {
                Ok(seconds) => Some(Value::Time(Duration::from_secs(seconds))),
                Err(_) => uspan_model::duration::parse_one_unit(text).map(Value::Time),
            },
            Codec::Words(words) => words.iter().find(|(word, _)| *word == text).map(|(_, value)| value.clone()),
            Codec::Own(spelling) | Codec::Items(spelling, _) => (spelling.read)(profile, text),
            Codec::Alone(means) => Some(means.clone()),
        }
    }
}

/// The items of a list, each as a list of its own.
fn items(list: &Value) -> Vec<Value> {
    match list {
        Value::Proposals(list) => list.iter().map(|one| Value::Proposals(vec![one.clone()])).collect(),
        Value::Selectors(list) => list.iter().map(|one| Value::Selectors(vec![*one])).collect(),
        Value::Pairs(list) => list.iter().map(|one| Value::Pairs(vec![*one])).collect(),
        other => vec![other.clone()],
    }
}

/// A list with one more item behind it.
fn joined(list: Option<Value>, item: Value) -> Value {
    match (list, item) {
        (Some(Value::Proposals(mut list)), Value::Proposals(more)) => {
            list.extend(more);
            Value::Proposals(list)
        }
        (Some(Value::Selectors(mut list)), Value::Selectors(more)) => {
            list.extend(more);
            Value::Selectors(list)
        }
        (Some(Value::Pairs(mut list)), Value::Pairs(more)) => {
            list.extend(more);
            Value::Pairs(list)
        }
        (_, item) => item,
    }
}
