//! The reference page of the language, generated from its table.

use super::language::{DOCUMENT, Key, Need, Shape};
use uspan_dialects::context::Context;

/// The reference of the language as Markdown.
pub fn language_reference(context: &Context) -> String {
    let mut page = String::from(
        "# The description language\n\nGenerated from the table the decoder uses; do not edit. \
         A description is a TOML file whose name ends in `.span.toml`.\n",
    );
    section(&mut page, "The document", "", DOCUMENT, context);
    page
}

fn section(page: &mut String, title: &str, path: &str, keys: &[Key], context: &Context) {
    use std::fmt::Write as _;
    let _ = writeln!(page, "\n## {title}\n\n| key | value | if left out |\n|---|---|---|");
    for key in keys {
        let default = match key.need {
            Need::Required => "must be written",
            Need::Optional("") => "-",
            Need::Optional(default) => default,
        };
        let _ = writeln!(page, "| `{}` | {} | {default} |", key.name, key.doc.replace('|', "\\|"));
        if let Shape::Word(choices) = key.shape {
            for choice in choices(context) {
                let _ = writeln!(page, "| | `\"{}\"`: {} | |", choice.word, choice.means);
            }
        }
        if let Shape::Text { is, .. } = key.shape {
            let _ = writeln!(page, "| | {is}, e.g. `{}` | |", key.example);
        }
    }
    for key in keys {
        let inner = match key.shape {
            Shape::Table(keys) => Some((keys, format!("{path}{}", key.name))),
            Shape::Map { of: Shape::Table(keys), .. } => Some((*keys, format!("{path}{}.NAME", key.name))),
            Shape::List { of: Shape::Table(keys), .. } => Some((*keys, format!("{path}{} entries", key.name))),
            _ => None,
        };
        if let Some((keys, path)) = inner {
            section(page, &format!("`{path}`"), &format!("{path}."), keys, context);
        }
    }
}
