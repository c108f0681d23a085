//! The shape of everything, held against the language table.

use super::{Decoder, Node, in_file_order, kind_words, printable, table};
use crate::description::language::{Key, Need, Shape};
use crate::description::values;
use uspan_model::finding::{self as rules, key_suggestion, nearest};
use uspan_model::source::{Span, misleads};
use uspan_model::trade::trade_word;

use std::fmt;
use toml::de::{DeTable, DeValue};

/// As many characters a text of a description may have.
const LONGEST_TEXT: usize = 1000;

impl Decoder<'_> {
    /// Checks a table; returns the keys that unknown ones were probably meant to be.
    pub(super) fn check_table(
        &mut self,
        found: &DeTable<'_>,
        keys: &'static [Key],
        whole: Span,
        what: fmt::Arguments<'_>,
    ) -> Vec<&'static str> {
        let mistyped = self.check_keys(found, keys, what, true);
        // A key that is there under a mistyped name is not reported as missing too.
        let missing = |key: &&Key| key.need == Need::Required && !found.contains_key(key.name) && !mistyped.contains(&key.name);
        for key in keys.iter().filter(missing) {
            let (rule, remedy) = match key.name {
                "unified-span" => (&rules::NO_VERSION, rules::NO_VERSION.remedy.to_owned()),
                _ => (&rules::MISSING_KEY, format!("Add `{} = {}`: {}", key.name, key.example, key.doc)),
            };
            self.say(rule, whole, format!("{what} lacks `{}`", key.name)).remedy = remedy;
        }
        mistyped
    }

    /// Checks the keys that are there; returns those that unknown ones were probably meant to be. Of a table that is not
    /// `whole` nothing must be there, nor in the tables within it.
    fn check_keys(&mut self, found: &DeTable<'_>, keys: &'static [Key], what: fmt::Arguments<'_>, whole: bool) -> Vec<&'static str> {
        let mut mistyped = Vec::new();
        for (name, node) in in_file_order(found) {
            let word = name.get_ref().as_ref();
            match keys.iter().find(|key| key.name == word) {
                Some(key) => match (&key.shape, node.get_ref()) {
                    (Shape::Table(inner), DeValue::Table(table)) if !whole => {
                        self.check_keys(table, inner, format_args!("`{}`", key.name), false);
                    }
                    _ => self.check_shape(node, &key.shape, key.name),
                },
                None => {
                    mistyped.extend(nearest(word, keys.iter().map(|key| key.name)));
                    let hint = key_suggestion(word, keys.iter().map(|key| key.name));
                    self.say(&rules::UNKNOWN_KEY, name.span(), format!("{what} has no key `{}`", printable(word))).remedy =
                        format!("{hint} `uspan schema` lists all keys.");
                }
            }
        }
        mistyped
    }

    pub(super) fn check_shape(&mut self, node: &Node<'_>, shape: &'static Shape, key: &str) {
        match (shape, node.get_ref()) {
            (Shape::Number, DeValue::Integer(_)) | (Shape::Flag, DeValue::Boolean(_)) => {}
            (Shape::Text { .. }, DeValue::String(text)) => self.check_text(node, text, key),
            (Shape::Word(choices), DeValue::String(text)) => {
                let context = self.context;
                let choices = choices(context);
                if !choices.iter().any(|choice| choice.word == text.as_ref()) {
                    let words: Vec<_> = choices.iter().map(|choice| &*choice.word).collect();
                    self.unknown_word(node, text, key, &words);
                }
            }
            (Shape::Table(keys), DeValue::Table(table)) => {
                drop(self.check_table(table, keys, node.span().into(), format_args!("`{key}`")));
            }
            (Shape::Part(keys), DeValue::Table(table)) => drop(self.check_keys(table, keys, format_args!("`{key}`"), false)),
            (Shape::Map { of, keys }, DeValue::Table(table)) => self.check_map(node, table, of, keys, key),
            (Shape::List { of, at_least }, DeValue::Array(items)) => {
                if items.is_empty() && *at_least > 0 {
                    self.say(&rules::EMPTY_VALUE, node.span(), format!("the list `{key}` is empty"));
                }
                for item in items.iter() {
                    self.check_shape(item, of, key);
                }
            }
            (Shape::Either(shapes), _) => self.check_either(node, shapes, shape, key),
            _ => self.wrong_type(node, shape, key),
        }
    }

    pub(super) fn check_text(&mut self, node: &Node<'_>, text: &str, key: &str) {
        if text.is_empty() {
            self.say(&rules::EMPTY_VALUE, node.span(), format!("`{key}` is empty"));
        } else if let Some(odd) = text.chars().find(|c| misleads(*c)) {
            let what = if odd.is_control() {
                "a control character or a line break".to_owned()
            } else {
                format!("the character U+{:04X}, which is not seen as what it is", u32::from(odd))
            };
            self.say(&rules::CONTROL_CHARACTER, node.span(), format!("`{key}` holds {what}"));
        } else if text.chars().count() > LONGEST_TEXT {
            self.say(
                &rules::LONG_TEXT,
                node.span(),
                format!("`{key}` has {} characters, and {LONGEST_TEXT} are the most", text.chars().count()),
            );
        }
    }

    pub(super) fn check_map(&mut self, node: &Node<'_>, entries: &DeTable<'_>, of: &'static Shape, keys: &str, key: &str) {
        if entries.is_empty() {
            let rule = if key == "networks" { &rules::NO_NETWORKS } else { &rules::EMPTY_VALUE };
            self.say(rule, node.span(), format!("`{key}` is a table of {keys}, but there is none"));
        }
        for (name, value) in in_file_order(entries) {
            let word = name.get_ref().as_ref();
            if keys.ends_with("by name") && !values::is_name(word) {
                self.say(&rules::BAD_NAME, name.span(), format!("`{}` cannot be the name of one of the {keys}", printable(word)));
            }
            match of {
                // Findings about the table as a whole point at its name, not at all its lines.
                Shape::Table(inner) => match table(value) {
                    Some(found) => drop(self.check_table(found, inner, name.span().into(), format_args!("{key} `{}`", printable(word)))),
                    None => self.check_shape(value, of, word),
                },
                _ => self.check_shape(value, of, word),
            }
        }
    }

    pub(super) fn check_either(&mut self, node: &Node<'_>, shapes: &'static [Shape], shape: &Shape, key: &str) {
        let fits = |shape: &Shape| {
            matches!(
                (shape, node.get_ref()),
                (Shape::Number, DeValue::Integer(_))
                    | (Shape::Flag, DeValue::Boolean(_))
                    | (Shape::Text { .. } | Shape::Word(_), DeValue::String(_))
                    | (Shape::Table(_) | Shape::Part(_) | Shape::Map { .. }, DeValue::Table(_))
                    | (Shape::List { .. }, DeValue::Array(_))
            )
        };
        match shapes.iter().find(|shape| fits(shape)) {
            Some(fitting) => self.check_shape(node, fitting, key),
            None => self.wrong_type(node, shape, key),
        }
    }

    pub(super) fn wrong_type(&mut self, node: &Node<'_>, shape: &Shape, key: &str) {
        self.say(&rules::WRONG_TYPE, node.span(), format!("`{key}` is {}, expected {}", kind_words(node), shape.words(self.context)))
            .remedy = format!("Write {}.", shape.words(self.context));
    }

    pub(super) fn unknown_word(&mut self, node: &Node<'_>, word: &str, key: &str, words: &[&str]) {
        let rule = if key == "platform" { &rules::UNKNOWN_PLATFORM } else { &rules::UNKNOWN_WORD };
        let list = words.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ");
        let near = nearest(word, words.iter().copied()).map(|near| format!("did you mean `{near}`? "));
        let trade = || trade_word(word).map(|trade| format!("`{}` is {}. ", trade.ours, trade.says));
        let hint = near.or_else(trade).unwrap_or_default();
        self.say(rule, node.span(), format!("`{}` is none of the choices for `{key}`", printable(word))).remedy =
            format!("{hint}The choices are {list}.");
    }
}
