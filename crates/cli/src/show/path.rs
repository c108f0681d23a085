//! A packet's path, hop by hop.

use serde_json::{Value, json};
use uspan_core::{Flow, Hop, Leg, Place, Spot, Walk};

use super::{CARE, GOOD, HEADING, QUIET, STOP, ShownEnds, columns, file_and_line, styled, wrapped};

/// The whole of it, through one tunnel after the other; the answer comes back in the opposite order.
pub fn text(walks: &[(Walk, ShownEnds<'_>)], flow: &Flow) -> String {
    let mut lines = vec![styled(HEADING, &format!("{} to {}, {}", flow.from, flow.to, flow.traffic))];
    lines.extend(walks.iter().flat_map(|(walk, shown)| leg(&walk.there, shown)));
    if let Some(back) = answer(walks) {
        lines.push(String::new());
        lines.push(styled(HEADING, "and the answer"));
        lines.extend(back.flat_map(|(back, shown)| leg(back, shown)));
    }
    lines.push(String::new());
    lines.join("\n")
}

/// The ways of the answer, as far as it comes; nothing where there is none, because the packet does not arrive.
fn answer<'w, 's>(walks: &'w [(Walk, ShownEnds<'s>)]) -> Option<impl Iterator<Item = (&'w Leg, &'w ShownEnds<'s>)>> {
    walks.last().and_then(|(walk, _)| walk.back.as_ref())?;
    let mut lost = false;
    Some(walks.iter().rev().map_while(move |(walk, shown)| {
        let back = walk.back.as_ref().filter(|_| !lost)?;
        lost = !back.arrives();
        Some((back, shown))
    }))
}

fn leg(leg: &Leg, shown: &ShownEnds<'_>) -> Vec<String> {
    let mut lines = Vec::new();
    let width = shown.names.iter().map(|name| name.chars().count()).max().unwrap_or(0).max("internet".len());
    let room = columns().min(140).saturating_sub(width + 22);
    let mut last = None;
    for hop in &leg.hops {
        if last != Some(hop.spot) {
            lines.push(String::new());
        }
        let spot = if last == Some(hop.spot) { "" } else { spot(hop, shown) };
        last = Some(hop.spot);
        let (mark, style) = match (hop.passes, hop.open) {
            (true, false) => ("  ", GOOD),
            (true, true) => ("? ", CARE),
            (false, _) => ("✗ ", STOP),
        };
        let head = format!("{spot:<width$}  {}{:<13}", styled(style, mark), hop.aspect.word());
        let mut rest = wrapped(&hop.says, room).into_iter();
        let first = rest.next().unwrap_or_default();
        let text = |line: &str| if hop.passes { line.to_owned() } else { styled(STOP, line) };
        lines.push(format!("{head}{}", text(&first)));
        let indent = " ".repeat(width + 17);
        lines.extend(rest.map(|line| format!("{indent}{}", text(&line))));
        if let Some((place, spelling)) = &hop.decided {
            let spelling = spelling.as_ref().map_or_else(String::new, |spelling| format!("  {spelling}"));
            let decided = format!("{}{spelling}", at(hop, place, shown));
            lines.extend(wrapped(&decided, room).iter().map(|line| format!("{indent}{}", styled(QUIET, line))));
        }
        for (place, spelling) in &hop.unsure {
            let rule = spelling.clone().unwrap_or_default();
            let line = format!("? nobody can tell from the files whether this holds: {}  {rule}", at(hop, place, shown));
            lines.extend(wrapped(&line, room).iter().map(|line| format!("{indent}{line}")));
        }
        if let Some(remedy) = &hop.remedy {
            lines.extend(wrapped(&format!("→ {remedy}"), room).iter().map(|line| format!("{indent}{line}")));
        }
    }
    lines
}

fn spot<'a>(hop: &Hop, shown: &ShownEnds<'a>) -> &'a str {
    match hop.spot {
        Spot::Gateway(end) => shown.names[end],
        Spot::Internet => "internet",
    }
}

/// File and line, as the user would open it.
fn at(hop: &Hop, place: &Place, shown: &ShownEnds<'_>) -> String {
    match hop.spot {
        Spot::Gateway(end) => file_and_line(place, shown.files[end]),
        Spot::Internet => place.file.to_string(),
    }
}

/// The same as JSON: the way there, and that of the answer.
pub fn json(walks: &[(Walk, ShownEnds<'_>)]) -> (Value, Value) {
    let there: Vec<_> = walks.iter().map(|(walk, shown)| (&walk.there, shown)).collect();
    (legs(&there), answer(walks).map_or(Value::Null, |back| legs(&back.collect::<Vec<_>>())))
}

fn legs(all: &[(&Leg, &ShownEnds<'_>)]) -> Value {
    let hop = |hop: &Hop, shown: &ShownEnds<'_>| {
        json!({
            "at": spot(hop, shown),
            "what": hop.aspect.word(),
            "says": hop.says,
            "decided_by": hop.decided.as_ref().map(|(place, _)| at(hop, place, shown)),
            "spelling": hop.decided.as_ref().and_then(|(_, spelling)| spelling.clone()),
            "passes": hop.passes,
            "open": hop.open,
            "unsure": hop.unsure.iter().map(|(place, spelling)| json!({ "rule": at(hop, place, shown), "spelling": spelling })).collect::<Vec<_>>(),
            "do": hop.remedy,
        })
    };
    let hops: Vec<_> = all.iter().flat_map(|(leg, shown)| leg.hops.iter().map(|one| hop(one, shown))).collect();
    json!({ "arrives": all.iter().all(|(leg, _)| leg.arrives()), "hops": hops })
}
