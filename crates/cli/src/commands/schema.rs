//! `uspan schema`.

use serde_json::{Value, json};
use uspan_core::Context;
use uspan_core::language::{DOCUMENT, Key, Need, Shape, VERSION};

use crate::args::Printing;
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;

pub fn run(of: Option<Printing>, reference: bool) -> Result<CommandOutcome, Failure> {
    let context = input::context();
    match of {
        Some(command) => super::print_text(printed(command))?,
        None if reference => super::print_text(&uspan_core::language_reference(&context))?,
        None => super::print_json(&language(&context))?,
    }
    Ok(CommandOutcome::Fine)
}

/// The schema of what a command prints with `--format json`.
fn printed(by: Printing) -> &'static str {
    match by {
        Printing::Adopt => include_str!("../../assets/schemas/adopt.json"),
        Printing::Algorithms => include_str!("../../assets/schemas/algorithms.json"),
        Printing::Build => include_str!("../../assets/schemas/build.json"),
        Printing::Check => include_str!("../../assets/schemas/check.json"),
        Printing::Compare => include_str!("../../assets/schemas/compare.json"),
        Printing::Explain => include_str!("../../assets/schemas/explain.json"),
        Printing::Move => include_str!("../../assets/schemas/move.json"),
        Printing::Platforms => include_str!("../../assets/schemas/platforms.json"),
        Printing::Prove => include_str!("../../assets/schemas/prove.json"),
        Printing::Rehearse => include_str!("../../assets/schemas/rehearse.json"),
        Printing::Retire => include_str!("../../assets/schemas/retire.json"),
        Printing::Sheet => include_str!("../../assets/schemas/sheet.json"),
        Printing::VerifySteps => include_str!("../../assets/schemas/verify-steps.json"),
        Printing::Walk => include_str!("../../assets/schemas/walk.json"),
    }
}

/// The JSON Schema (draft 2020-12) of a description, for editors.
fn language(context: &Context) -> Value {
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
