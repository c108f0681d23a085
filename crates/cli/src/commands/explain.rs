//! `uspan explain`: findings by their codes, notifications and words of the trade by themselves.

use serde_json::{Value, json};
use uspan_core::algorithm::{Kind, Row, usual};
use uspan_core::{CATALOGUE, Notification, Rule, TradeWord, nearest, notification, notifications, rule, trade_word};

use crate::args::Format;
use crate::failure::{CommandOutcome, Failure};
use crate::show::table::table;
use crate::show::terminal;
use crate::show::{HEADING, columns, styled, wrapped};

pub fn run(code: Option<&str>, format: Format) -> Result<CommandOutcome, Failure> {
    let Some(code) = code else { return list(format) };
    let Some(explained) = explained(code) else {
        let names = CATALOGUE.iter().flat_map(|rule| [rule.code, rule.name]);
        let near = nearest(code, names.chain(notifications().iter().map(|one| one.name)));
        let hint = near.map_or("`uspan explain` lists all of them".to_owned(), |near| format!("did you mean `{near}`?"));
        let code: String = code.chars().filter(|c| !c.is_control()).take(LONGEST).collect();
        terminal::error_line(&format!("uspan: there is no finding, no notification and no word of the trade `{code}`; {hint}"));
        std::process::exit(2);
    };
    match format {
        Format::Json => super::print_json(&[explained.value()])?,
        Format::Text => {
            super::print_line(&styled(HEADING, &explained.heading()))?;
            for (label, text) in explained.lines() {
                super::print_line(&labelled(label, &text))?;
            }
        }
    }
    Ok(CommandOutcome::Fine)
}

/// As much of a word that is not known is said again.
const LONGEST: usize = 60;

/// What a word stands for.
enum Explained {
    Finding(&'static Rule),
    Notification(&'static Notification),
    Algorithm(&'static Row),
    Trade(&'static TradeWord, String),
}

fn explained(word: &str) -> Option<Explained> {
    let algorithm = || Kind::ALL.into_iter().find_map(|kind| usual(kind, word));
    (rule(word).map(Explained::Finding))
        .or_else(|| notification(word).map(Explained::Notification))
        .or_else(|| trade_word(word).map(|found| Explained::Trade(found, word.to_owned())))
        .or_else(|| algorithm().map(Explained::Algorithm))
}

impl Explained {
    fn heading(&self) -> String {
        match self {
            Explained::Finding(rule) => format!("{} {} ({})", rule.code, rule.name, rule.severity.word()),
            Explained::Notification(one) if one.in_v1.is_empty() => format!("{} ({})", one.name, one.number),
            Explained::Notification(one) => format!("{} ({}; in IKEv1 {})", one.name, one.number, one.in_v1),
            Explained::Algorithm(row) => format!("{} ({} {})", row.name, row.kind.word(), row.number),
            Explained::Trade(row, word) => format!("{word}: {}", row.ours),
        }
    }

    fn lines(&self) -> Vec<(&'static str, String)> {
        match self {
            Explained::Finding(rule) => vec![("what", rule.what.to_owned()), ("why", rule.why.to_owned()), ("do", rule.remedy.to_owned())],
            Explained::Notification(one) => {
                let causes = one.causes.iter().enumerate().map(|(at, cause)| (if at == 0 { "why" } else { "or" }, (*cause).to_owned()));
                [("what", one.what.to_owned())].into_iter().chain(causes).chain([("do", one.remedy.to_owned())]).collect()
            }
            Explained::Algorithm(row) => {
                let weak = (!row.weak.is_empty()).then(|| ("weak", row.weak.to_owned()));
                let what = format!("{} in the registry, {}; {} for IKE, {} for ESP", row.iana, row.rfc, row.ike.word(), row.esp.word());
                [("what", what)].into_iter().chain(weak).chain([("do", format!("Write `\"{}\"`.", row.name))]).collect()
            }
            Explained::Trade(row, _) => vec![("what", format!("{}.", row.says)), ("do", format!("Write `{}`.", row.ours))],
        }
    }

    fn value(&self) -> Value {
        let (code, name) = match self {
            Explained::Finding(rule) => return value(rule),
            Explained::Notification(one) => (one.number.to_string(), one.name),
            Explained::Algorithm(row) => (row.number.to_string(), row.name),
            Explained::Trade(row, _) => (String::new(), row.ours),
        };
        let lines = self.lines();
        let of = |label: &str| lines.iter().filter(|(known, _)| *known == label).map(|(_, text)| text.clone()).collect::<Vec<_>>();
        let why = [of("why"), of("or"), of("weak")].concat().join(" ");
        json!({ "code": code, "name": name, "severity": "", "what": of("what").join(" "), "why": why, "remedy": of("do").join(" ") })
    }
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
