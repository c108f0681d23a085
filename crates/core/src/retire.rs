//! Taking a tunnel out again: for each gateway a script that ends it and removes what was written for it.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use crate::build::{Build, build};
use uspan_description::check::Supplied;
use uspan_description::description::{Description, Site, Tunnel};
use uspan_dialects::dialect::{Draft, sentence};
use uspan_dialects::network;
use uspan_dialects::routing;
use uspan_model::gateway::{FilterForm, Gateway, Tree};

/// What takes a tunnel out of one gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Retirement {
    /// The site.
    pub site: String,
    /// The tunnel.
    pub tunnel: String,
    /// A shell script to run on the gateway, as root.
    pub script: String,
    /// What is left for people to do, because it stands in files of theirs.
    pub by_hand: Vec<String>,
}

/// The scripts that take out the tunnels that `wanted` picks, two for each, that of the end that opens first.
///
/// Each is for a gateway that keeps its other tunnels. `whole` is what the description builds.
pub fn retire(description: &Description, supplied: &Supplied, whole: &Build, wanted: impl Fn(&str) -> bool) -> Vec<Retirement> {
    let mut all = Vec::new();
    for tunnel in whole.tunnels.iter().filter(|tunnel| wanted(&tunnel.name)) {
        let told = description.tunnels.iter().find(|told| told.name.value == tunnel.name);
        let shared = told.is_some_and(|told| description.siblings(told).next().is_some());
        let mut rest = description.clone();
        // No other gateway is touched.
        let near = |other: &Tunnel| description.ends(other).iter().any(|site| tunnel.ends.contains(&site.name.value));
        rest.tunnels.retain(|other| other.name.value != tunnel.name && near(other));
        let rest = build(&rest, supplied);
        let opens = |end: &usize| tunnel.gateways[*end].connections.iter().any(|connection| connection.ike().persistent.value);
        let mut order = [0, 1];
        order.sort_by_key(|end| !opens(end));
        for end in order {
            let site = description.sites.iter().find(|site| site.name.value == tunnel.ends[end]);
            // Of others nothing is taken out by us.
            let site = site.filter(|site| !site.platform.value.is_run_by_others());
            all.extend(site.map(|site| at_one_end(site, &tunnel.name, (&tunnel.gateways[end], shared), whole, &rest)));
        }
    }
    all
}

fn at_one_end(site: &Site, tunnel: &str, (gateway, shared): (&Gateway, bool), whole: &Build, rest: &Build) -> Retirement {
    let name = &site.name.value;
    let empty = Tree::default();
    let (with, without) = (whole.trees.get(name).unwrap_or(&empty), rest.trees.get(name).unwrap_or(&empty));
    let daemon = site.platform.value.family.take_out(gateway, shared);
    let rules = site.packet_filter.take_out(tunnel, with);
    let mut script = Draft::default();
    script.push_str("#!/bin/sh\n");
    sentence(&mut script, "", &format!("{name}: takes the tunnel {tunnel} out again. Run it as root."));
    script.push_str("# Written by Unified Span.\n");
    let mut section = |title: &str, commands: &[String]| {
        if !commands.is_empty() {
            let _ = writeln!(script, "\n# {title}");
            commands.iter().for_each(|command| script.push_str(&format!("{command}\n")));
        }
    };
    section("The SAs go, on both sides.", &daemon.before);
    let [sessions, forget] = routing::take_out(tunnel, gateway);
    section("What the peer told of its networks.", &sessions);
    section("Rules and interface.", &[rules, network::take_down(tunnel, with)].concat());
    section("The files of this tunnel.", &file_commands(with, without, site.platform.value.family.needs()));
    section("The daemon forgets it.", &daemon.after);
    section("So does the router.", &forget);
    let by_hand = match site.filter {
        FilterForm::Joined => site.packet_filter.by_hand(tunnel),
        FilterForm::Standalone => Vec::new(),
    };
    section("What stands in your own files is left to you:", &by_hand.iter().map(|line| format!("#   {line}")).collect::<Vec<_>>());
    Retirement { site: name.clone(), tunnel: tunnel.to_owned(), script: script.into_text(), by_hand }
}

/// Files that no other tunnel needs go; from those that others share, only the own lines.
fn file_commands(with: &Tree, without: &Tree, needs: &[&str]) -> Vec<String> {
    let mut commands = Vec::new();
    for (path, file) in &with.files {
        if file.shared && (without.files.contains_key(path) || needs.contains(&path.as_str())) {
            let kept: BTreeSet<&str> = without.files.get(path).into_iter().flat_map(|file| file.text.lines()).collect();
            // Of a daemon's main file what holds for all tunnels stays, also when this was the last one.
            let own = file.text.lines().filter(|line| line.starts_with("include") && !kept.contains(line));
            commands.extend(own.map(|line| format!("sed -i '\\|^{line}$|d' /{path}")));
        } else if !without.files.contains_key(path) && !path.ends_with(".chains") {
            commands.push(format!("rm -f /{path}"));
        }
    }
    commands
}
