//! What a build changes in an earlier one, in the trade's words.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use serde_json::{Value, json};
use uspan_core::Change;

use super::table::table;
use super::{CARE, HEADING, columns, styled, wrapped};

/// Changes with the site that they concern.
pub type Changes = Vec<(String, Change)>;

/// A table of what differs, and then when it takes effect where.
pub fn text(changes: &Changes) -> String {
    let mut differs: Groups<'_> = Groups::default();
    let mut when: Groups<'_> = Groups::default();
    for (site, change) in changes {
        differs.add(vec![change.about, change.before.as_str(), change.now.as_str()], site, change);
        when.add(vec![change.effect.words()], site, change);
    }
    let mut text = styled(HEADING, "What changes");
    text.push('\n');
    let rows =
        differs.list.iter().map(|group| vec![few(&group.sites, "\n"), group.about(), group.key[1].to_owned(), group.key[2].to_owned()]);
    text.push_str(&table(&["at", "what", "before", "now"], rows.take(MOST).collect(), &[0]));
    if differs.list.len() > MOST {
        let _ = write!(text, "\nand {} more; --format json lists all of them", differs.list.len() - MOST);
    }
    text.push_str("\n\n");
    let rows = when.list.iter().map(|group| vec![few(&group.sites, "\n"), group.key[0].to_owned(), group.abouts.join(", ")]);
    text.push_str(&table(&["at", "takes effect", "what"], rows.collect(), &[0]));
    let mut together: Vec<&str> = changes.iter().filter(|(_, change)| change.both_ends).map(|(_, change)| change.about).collect();
    together.sort_unstable();
    together.dedup();
    if !together.is_empty() {
        let note = format!("Both ends together: {}. With one end alone the tunnel does not come up again.", together.join(", "));
        let _ = write!(text, "\n\n{}", styled(CARE, &wrapped(&note, columns().min(100)).join("\n")));
    }
    text
}

/// The most rows that anybody reads.
const MOST: usize = 40;

/// What changes alike at several places is said once.
#[derive(Default)]
struct Groups<'a> {
    list: Vec<Group<'a>>,
    places: BTreeMap<Vec<&'a str>, usize>,
}

struct Group<'a> {
    key: Vec<&'a str>,
    sites: Vec<&'a str>,
    tunnels: BTreeSet<&'a str>,
    abouts: Vec<&'a str>,
}

impl<'a> Groups<'a> {
    fn add(&mut self, key: Vec<&'a str>, site: &'a str, change: &'a Change) {
        let next = self.list.len();
        let place = *self.places.entry(key.clone()).or_insert(next);
        if place == next {
            self.list.push(Group { key, sites: Vec::new(), tunnels: BTreeSet::new(), abouts: Vec::new() });
        }
        let group = &mut self.list[place];
        // Changes come site by site.
        if group.sites.last() != Some(&site) {
            group.sites.push(site);
        }
        if !change.tunnel.is_empty() {
            group.tunnels.insert(&change.tunnel);
        }
        if !group.abouts.contains(&change.about) {
            group.abouts.push(change.about);
        }
    }
}

impl Group<'_> {
    fn about(&self) -> String {
        match self.tunnels.len() {
            0 => self.key[0].to_owned(),
            1 => format!("{} of {}", self.key[0], self.tunnels.first().unwrap_or(&"")),
            more => format!("{} of {more} tunnels", self.key[0]),
        }
    }
}

/// The first of a list, and how many there are beside.
fn few(names: &[&str], between: &str) -> String {
    const FEW: usize = 3;
    match names.len() {
        0..=FEW => names.join(between),
        more => format!("{}{between}and {} more", names[..FEW - 1].join(between), more - FEW + 1),
    }
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
