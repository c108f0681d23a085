//! `uspan explain`.

use serde_json::{Value, json};
use uspan_core::{CATALOGUE, Rule, nearest, rule};

use crate::args::Format;
use crate::failure::{CommandOutcome, Failure};
use crate::show::table::table;
use crate::show::terminal;
use crate::show::{HEADING, columns, styled, wrapped};

pub fn run(code: Option<&str>, format: Format) -> Result<CommandOutcome, Failure> {
    let Some(code) = code else { return list(format) };
    let Some(found) = rule(code) else {
        let names = CATALOGUE.iter().flat_map(|rule| [rule.code, rule.name]);
        let hint = nearest(code, names).map_or("`uspan explain` lists all of them".to_owned(), |near| format!("did you mean `{near}`?"));
        terminal::error_line(&format!("uspan: there is no finding `{code}`; {hint}"));
        std::process::exit(2);
    };
    match format {
        Format::Json => super::print_json(&[value(found)])?,
        Format::Text => {
            super::print_line(&styled(HEADING, &format!("{} {} ({})", found.code, found.name, found.severity.word())))?;
            for (label, text) in [("what", found.what), ("why", found.why), ("do", found.remedy)] {
                super::print_line(&labelled(label, text))?;
            }
        }
    }
    Ok(CommandOutcome::Fine)
}

/// A label and a text, wrapped to the terminal with a hanging indent.
fn labelled(label: &str, text: &str) -> String {
    let lines = wrapped(text, columns().min(100) - 8);
    format!("  {label:<5} {}", lines.join("\n        "))
}

fn value(rule: &Rule) -> Value {
    json!({ "code": rule.code, "name": rule.name, "severity": rule.severity.word(), "what": rule.what, "why": rule.why, "remedy": rule.remedy })
}

fn list(format: Format) -> Result<CommandOutcome, Failure> {
    match format {
        Format::Json => super::print_json(&CATALOGUE.iter().map(|rule| value(rule)).collect::<Vec<_>>())?,
        Format::Text => {
            let rows = CATALOGUE.iter().map(|rule| vec![rule.code.to_owned(), rule.severity.word().to_owned(), rule.what.to_owned()]);
            super::print_line(&table(&["code", "weight", "what"], rows.collect(), &[0, 1]))?;
        }
    }
    Ok(CommandOutcome::Fine)
}
