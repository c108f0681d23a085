//! What a build changes in an earlier one, in the trade's words.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde_json::{Value, json};
use uspan_core::{Change, Effect};

use super::table::table;
use super::{CARE, HEADING, columns, styled, wrapped};

/// Changes with the site that they concern.
pub type Changes = Vec<(String, Change)>;

/// A table of what differs, and then when it takes effect at each site.
pub fn text(changes: &Changes) -> String {
    let mut rows: Vec<Vec<String>> = Vec::new();
    for (site, change) in changes {
        let row = vec![site.clone(), about(change), change.before.clone(), change.now.clone()];
        // What changes alike at both ends is said once.
        match rows.iter_mut().find(|other| other[1..] == row[1..] && other[0] != row[0]) {
            Some(other) => other[0] = format!("{}\n{site}", other[0]),
            None => rows.push(row),
        }
    }
    let mut text = styled(HEADING, "What changes");
    text.push('\n');
    text.push_str(&table(&["at", "what", "before", "now"], rows, &[0]));
    text.push_str("\n\n");
    let mut when: BTreeMap<(&str, Effect), Vec<String>> = BTreeMap::new();
    for (site, change) in changes {
        when.entry((site, change.effect)).or_default().push(about(change));
    }
    let rows = when.into_iter().map(|((site, effect), what)| vec![site.to_owned(), effect.to_string(), what.join(", ")]);
    text.push_str(&table(&["at", "takes effect", "what"], rows.collect(), &[0]));
    let mut together: Vec<String> = changes.iter().filter(|(_, change)| change.both_ends).map(|(_, change)| about(change)).collect();
    together.dedup();
    together.sort();
    together.dedup();
    if !together.is_empty() {
        let note = format!("Both ends together: {}. With one end alone the tunnel does not come up again.", together.join(", "));
        let _ = write!(text, "\n\n{}", styled(CARE, &wrapped(&note, columns().min(100)).join("\n")));
    }
    text
}

/// The parameter, and of which tunnel.
fn about(change: &Change) -> String {
    if change.tunnel.is_empty() { change.about.to_owned() } else { format!("{} of {}", change.about, change.tunnel) }
}

/// The same as JSON.
pub fn json(changes: &Changes) -> Value {
    let one = |(site, change): &(String, Change)| {
        json!({
            "site": site, "tunnel": change.tunnel, "about": change.about, "before": change.before, "now": change.now,
            "effect": change.effect.words(), "both_ends": change.both_ends,
        })
    };
    changes.iter().map(one).collect()
}
