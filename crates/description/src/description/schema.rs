//! The JSON Schema of the language and its reference page, generated from the table.

use serde_json::{Value, json};

use super::language::{DOCUMENT, Key, Need, Shape, VERSION};
use uspan_dialects::context::Context;

/// The JSON Schema (draft 2020-12) of a description, for editors.
pub fn schema(context: &Context) -> Value {
    let mut schema = table(DOCUMENT, context);
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema["required"] = json!(["unified-span"]);
    schema["anyOf"] = json!([{ "required": ["tunnel"] }, { "required": ["group"] }]);
    schema["title"] = json!("Unified Span description");
    schema["properties"]["unified-span"] = json!({ "const": VERSION, "description": "The version of the description language." });
    schema
}

fn table(keys: &[Key], context: &Context) -> Value {
    let mut properties = serde_json::Map::new();
    for key in keys {
        let mut value = shape(&key.shape, context);
        value["description"] = json!(match key.need {
            Need::Optional(default) if !default.is_empty() => format!("{} If left out: {default}.", key.doc),
            _ => key.doc.to_owned(),
        });
        properties.insert(key.name.to_owned(), value);
    }
    let required: Vec<_> = keys.iter().filter(|key| key.need == Need::Required).map(|key| key.name).collect();
    json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
}

fn shape(shape_of: &Shape, context: &Context) -> Value {
    match shape_of {
        Shape::Number => json!({ "type": "integer" }),
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Text { pattern, .. } => json!({ "type": "string", "pattern": pattern }),
        Shape::Word(choices) => {
            let words: Vec<_> = choices(context).iter().map(|c| json!({ "const": c.word, "description": c.means })).collect();
            json!({ "oneOf": words })
        }
        Shape::Table(keys) => table(keys, context),
        Shape::Part(keys) => {
            let mut part = table(keys, context);
            part["required"] = json!([]);
            part
        }
        Shape::Map { of, .. } => json!({ "type": "object", "additionalProperties": shape(of, context), "minProperties": 1 }),
        Shape::List { of, at_least } => json!({ "type": "array", "items": shape(of, context), "minItems": at_least }),
        Shape::Either(shapes) => json!({ "anyOf": shapes.iter().map(|one| shape(one, context)).collect::<Vec<_>>() }),
    }
}

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
