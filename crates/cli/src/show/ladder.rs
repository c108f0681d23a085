//! A negotiation as a ladder: one line down for each end, one across for each message.

use super::comparison::doubt_json;
use serde_json::{Value, json};
use uspan_core::{Cure, Message, Rehearsal, RehearsalFailure, Step};

use super::{CARE, GOOD, HEADING, QUIET, STOP, ShownEnds, columns, file_and_line, styled, wrapped};

/// Columns before the first line down: the numbers of the messages stand there.
const MARGIN: usize = 5;

/// The whole of it.
pub fn text(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> String {
    let width = columns().min(124) - MARGIN - 2;
    let mut lines = vec![styled(HEADING, &title(rehearsal, shown)), String::new()];
    let both = |left: &str, right: &str| {
        let gap = (width + 2).saturating_sub(left.chars().count() + right.chars().count()).max(1);
        format!("{:MARGIN$}{left}{:gap$}{right}", "", "").trim_end().to_owned()
    };
    lines.push(both(shown.names[0], shown.names[1]));
    lines.push(both(shown.titles[0], shown.titles[1]));
    let address = |end: usize| shown.addresses[end].map(|address| address.to_string()).unwrap_or_default();
    if shown.addresses.iter().any(Option::is_some) {
        lines.push(both(&address(0), &address(1)));
    }
    for (i, step) in rehearsal.steps.iter().enumerate() {
        match step {
            Step::Message(message) => {
                lines.push(rung("", width, ""));
                lines.extend(arrow(message, number_of(rehearsal, i), width, fails_at(rehearsal, i)));
            }
            Step::Thought { end, text } => {
                lines.push(rung("", width, ""));
                for line in wrapped(text, width - 8) {
                    let inner = if *end == 0 { format!(" {line}") } else { format!("{line:>w$} ", w = width - 1) };
                    lines.push(rung_of(&inner, width, *end));
                }
            }
        }
    }
    lines.push(rung("", width, ""));
    lines.push(String::new());
    lines.extend(outcome(rehearsal, shown));
    lines.join("\n")
}

/// One line for a negotiation among many.
pub fn line(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> String {
    let opened = rehearsal.opened.len();
    format!("{} {}: {opened} Child SA{}", styled(GOOD, "works  "), title(rehearsal, shown), if opened == 1 { "" } else { "s" })
}

fn title(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> String {
    let name = match &rehearsal.names {
        [one, other] if one == other => one.clone(),
        [one, other] => format!("{one}, {other}"),
    };
    format!("{name}: {} opens, {} answers", shown.names[rehearsal.initiator], shown.names[1 - rehearsal.initiator])
}

/// A line between the two lines down; `number` stands before it.
fn rung(inner: &str, width: usize, number: &str) -> String {
    let fill = width.saturating_sub(inner.chars().count());
    format!("{number:>w$} │{inner}{:fill$}│", "", w = MARGIN - 1)
}

/// What an end thinks: a dot on its line.
fn rung_of(inner: &str, width: usize, end: usize) -> String {
    let fill = width.saturating_sub(inner.chars().count());
    let text = styled(QUIET, inner);
    let (left, right) = if end == 0 { ("•", "│") } else { ("│", "•") };
    format!("{:MARGIN$}{left}{text}{:fill$}{right}", "", "")
}

/// What a message says, one payload after the other.
pub fn payload_words(message: &Message) -> Vec<String> {
    let words = |name: &str, says: &str| if says.is_empty() { name.to_owned() } else { format!("{name} {says}") };
    message.payloads.iter().map(|payload| words(&payload.name, &payload.says)).collect()
}

/// The payloads in lines of at most `room` characters; a payload goes over to the next line whole, if it fits on one.
pub fn payload_lines(message: &Message, room: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for words in payload_words(message) {
        match lines.last_mut() {
            Some(last) if last.chars().count() + 3 + words.chars().count() <= room => {
                last.push_str("   ");
                last.push_str(&words);
            }
            _ => lines.extend(wrapped(&words, room)),
        }
    }
    lines
}

/// What a message is called.
pub fn message_words(message: &Message) -> String {
    let word = message.exchange.word();
    match message.id {
        Some(id) => format!("{word} {} {id}", if message.reply { "reply" } else { "request" }),
        None => word.to_owned(),
    }
}

fn arrow(message: &Message, number: usize, width: usize, fatal: bool) -> Vec<String> {
    let style = |text: &str| if fatal { styled(STOP, text) } else { text.to_owned() };
    let room = width - 6;
    let rightwards = message.from == 0;
    let title = message_words(message);
    let aligned = |text: &str, indent: usize| {
        let indent = " ".repeat(indent);
        if rightwards { format!(" {indent}{text}") } else { format!("{:>w$} ", format!("{text}{indent}"), w = width - 1) }
    };
    let mut lines = vec![rung(&aligned(&title, 0), width, &number.to_string())];
    for line in payload_lines(message, room) {
        lines.push(rung(&aligned(&line, 2), width, ""));
    }
    // Short colours: only what stands between the lines down.
    if fatal {
        for line in &mut lines {
            let (head, rest) = line.split_once('│').unwrap_or(("", line));
            let inner = rest.strip_suffix('│').unwrap_or(rest);
            *line = format!("{head}│{}│", styled(STOP, inner));
        }
    }
    let shaft = match (rightwards, message.arrives) {
        (true, true) => format!("├{}▶│", style(&"─".repeat(width - 1))),
        (false, true) => format!("│◀{}┤", style(&"─".repeat(width - 1))),
        (true, false) => format!("├{}{}│", style(&format!("{}✗", "─".repeat(width * 2 / 3))), " ".repeat(width - 1 - width * 2 / 3)),
        (false, false) => format!("│{}{}┤", " ".repeat(width - 1 - width * 2 / 3), style(&format!("✗{}", "─".repeat(width * 2 / 3)))),
    };
    lines.push(format!("{:MARGIN$}{shaft}", ""));
    lines
}

/// Texts with labels before them, aligned.
#[derive(Default)]
struct Labelled(Vec<(String, String)>);

impl Labelled {
    fn add(&mut self, label: impl Into<String>, text: impl Into<String>) {
        self.0.push((label.into(), text.into()));
    }

    fn lines(&self) -> Vec<String> {
        let width = self.0.iter().map(|(label, _)| label.chars().count()).max().unwrap_or(0);
        let room = columns().min(120).saturating_sub(10 + width);
        let mut lines = Vec::new();
        for (label, text) in &self.0 {
            for (i, line) in text.lines().flat_map(|line| wrapped(line, room)).enumerate() {
                lines.push(format!("        {:<width$}  {line}", if i == 0 { label } else { "" }).trim_end().to_owned());
            }
        }
        lines
    }
}

/// What comes up, and what fails.
fn outcome(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> Vec<String> {
    let mut lines = Vec::new();
    for opened in &rehearsal.opened {
        lines.push(format!("{} {}: {}", styled(GOOD, "up     "), styled(HEADING, &opened.names[rehearsal.initiator]), opened.protection));
        let mut told = Labelled::default();
        for end in [0, 1] {
            let pairs: Vec<_> = opened.selectors[end].iter().map(|(from, to)| format!("{from} to {to}")).collect();
            told.add(format!("{} sends", shown.names[end]), pairs.join("\n"));
        }
        if !opened.whole {
            told.add("but", "that is not what both ends say: what only one of them covers does not cross");
        }
        lines.extend(told.lines());
    }
    if let Some(first) = rehearsal.doubts.first() {
        lines.push(format!("{} {}", styled(CARE, "unsure "), styled(HEADING, &format!("from here on: {}", first.stage.step()))));
        let mut told = Labelled::default();
        for doubt in &rehearsal.doubts {
            let at = file_and_line(&doubt.place, shown.files[doubt.end]);
            let spelled = doubt.spelling.as_ref().map_or_else(String::new, |spelling| format!("\n{spelling}"));
            told.add(shown.names[doubt.end], format!("{} is not understood: {at}{spelled}", doubt.about));
        }
        lines.extend(told.lines());
    }
    for failure in &rehearsal.failures {
        if !lines.is_empty() {
            lines.push(String::new());
        }
        lines.extend(failed(failure, rehearsal, shown));
    }
    lines
}

/// The number of the message that a step is.
pub fn number_of(rehearsal: &Rehearsal, step: usize) -> usize {
    rehearsal.steps.iter().take(step + 1).filter(|step| matches!(step, Step::Message(_))).count()
}

/// Whether something fails at a step.
pub fn fails_at(rehearsal: &Rehearsal, step: usize) -> bool {
    rehearsal.failures.iter().any(|failure| failure.step == step)
}

fn failed(failure: &RehearsalFailure, rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> Vec<String> {
    let message = match &rehearsal.steps.get(failure.step) {
        Some(Step::Message(message)) => format!("at message {}, {}", number_of(rehearsal, failure.step), message_words(message)),
        _ => "before the first message".to_owned(),
    };
    let notify = failure.notify.map_or_else(String::new, |notify| format!(": {notify}"));
    let of = failure.child.as_ref().map_or_else(String::new, |child| format!("  of {child}"));
    let mut lines = vec![format!("{} {}{of}", styled(STOP, "fails  "), styled(HEADING, &format!("{message}{notify}")))];
    let mut told = Labelled::default();
    told.add("why", failure.reason.as_str());
    told.add("in practice", failure.practice);
    for end in [0, 1] {
        if let Some(words) = &failure.logs[end] {
            told.add(format!("{} logs", shown.names[end]), words);
        }
    }
    for (i, cure) in failure.cures.iter().enumerate() {
        let spelling = cure.spelling.as_ref().map_or_else(String::new, |spelling| format!("  {spelling}"));
        told.add(if i == 0 { "do" } else { "" }, format!("{}{spelling}\n→ {}", at(cure, shown), cure.what));
    }
    lines.extend(told.lines());
    lines
}

/// Where a cure is to be applied, as the user would open it.
fn at(cure: &Cure, shown: &ShownEnds<'_>) -> String {
    match &cure.place {
        Some(place) => file_and_line(place, shown.files[cure.end]),
        None => shown.names[cure.end].to_owned(),
    }
}

/// The same as JSON.
pub fn json(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> Value {
    let step = |step: &Step| match step {
        Step::Message(message) => json!({
            "message": message.exchange.word(),
            "from": shown.names[message.from],
            "id": message.id,
            "reply": message.reply,
            "arrives": message.arrives,
            "payloads": message.payloads.iter().map(|payload| json!({ "name": payload.name, "says": payload.says })).collect::<Vec<_>>(),
            "refusal": message.refusal.map(|notify| notify.name),
            "source": message.source,
        }),
        Step::Thought { end, text } => json!({ "at": shown.names[*end], "thought": text }),
    };
    let cure = |cure: &Cure| {
        let line = cure.place.as_ref().and_then(|place| {
            let source = shown.files[cure.end].get(&*place.file)?;
            Some(json!({ "file": &**source.name(), "line": source.position(place.span.start).line }))
        });
        json!({ "at": shown.names[cure.end], "place": line, "spelling": cure.spelling, "do": cure.what })
    };
    let failure = |failure: &RehearsalFailure| {
        json!({
            "stage": failure.stage.word(),
            "child": failure.child,
            "message": number_of(rehearsal, failure.step),
            "notify": failure.notify.map(|notify| json!({ "name": notify.name, "number": notify.number })),
            "why": failure.reason,
            "in_practice": failure.practice,
            "logs": json!({ shown.names[0]: failure.logs[0], shown.names[1]: failure.logs[1] }),
            "cures": failure.cures.iter().map(cure).collect::<Vec<_>>(),
        })
    };
    let opened: Vec<_> = rehearsal
        .opened
        .iter()
        .map(|opened| {
            let sends =
                |end: usize| opened.selectors[end].iter().map(|(from, to)| json!([from.to_string(), to.to_string()])).collect::<Vec<_>>();
            json!({
                "names": opened.names,
                "sends": { shown.names[0]: sends(0), shown.names[1]: sends(1) },
                "protection": opened.protection,
                "as_written": opened.whole,
            })
        })
        .collect();
    json!({
        "connections": rehearsal.names,
        "opens": shown.names[rehearsal.initiator],
        "works": rehearsal.works(),
        "verdict": rehearsal.verdict().word(),
        "doubts": rehearsal.doubts.iter().map(|doubt| doubt_json(doubt, shown.files[doubt.end].get(&*doubt.place.file))).collect::<Vec<_>>(),
        "steps": rehearsal.steps.iter().map(step).collect::<Vec<_>>(),
        "failures": rehearsal.failures.iter().map(failure).collect::<Vec<_>>(),
        "opened": opened,
    })
}
