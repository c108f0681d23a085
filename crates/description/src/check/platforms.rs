//! What a site's platform cannot do of what the description asks, each at its line, with the nearest that it can.

use std::collections::BTreeMap;

use super::tunnels::LONGEST;
use crate::agreement::{Bundle, blind, bundle};
use crate::description::{Description, Opens, Site, Tunnel};
use crate::sides::seen_pairs;
use ipnet::IpNet;
use uspan_dialects::profile::{DeadPeer, Liveness, OpeningWay, ReplayWindow, Sa};
use uspan_model::algorithm::{Row, Transform};
use uspan_model::duration::duration_words;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Dscp, Encapsulation, Identity, IkeVersion};
use uspan_model::source::Span;

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut say = |span: Span, message: String, remedy: String| {
        findings.push(Finding::new(&rules::PLATFORM_CANNOT, message).at(description.source.place(span)).remedy(remedy));
    };
    for tunnel in &description.tunnels {
        let ends = description.ends(tunnel);
        for (end, site) in ends.into_iter().enumerate() {
            identity(site, ends, &mut say);
            opening(tunnel, end, ends, &mut say);
            version(tunnel, site, &mut say);
            shared_v1(description, tunnel, end, &mut say);
            packets(tunnel, site, &mut say);
            method(tunnel, site, &mut say);
        }
        pairs(description, tunnel, &mut say);
        for appearance in &tunnel.appearances {
            let site = ends[appearance.end];
            if !tunnel.routes_at(site) && !site.packet_filter.sees_translated() {
                let message =
                    format!("{}: {} cannot look at packets after it has translated them", site.name.value, site.packet_filter.title());
                let remedy = "Make this site route-based with `style`, or use `packet-filter = \"nftables\"`.";
                say(appearance.prefix.span, message, remedy.to_owned());
            }
        }
        encapsulation(tunnel, ends, &mut say);
    }
    for site in description.sites.iter().filter(|site| site.route_based.value && !site.platform.value.is_steered_by_routes()) {
        let message = format!("{} has no tunnel interfaces", title(site));
        say(site.route_based.span, message, "Say `style = \"policy-based\"`; the other end may still be route-based.".to_owned());
    }
    liveness(description, &mut say);
    equal_selectors(description, &mut say);
    findings.dedup();
    findings.extend(in_vain(description));
    findings
}

/// A platform that cannot prove itself, or recognise others, in the way that is asked for.
fn method(tunnel: &Tunnel, site: &Site, say: Say<'_>) {
    let can = &site.platform.value.methods;
    if !can.contains(&tunnel.method.value) {
        let message = format!("{} cannot prove itself with {}", title(site), tunnel.method.value.words());
        let others: Vec<_> = can.iter().map(|method| method.words()).collect();
        say(tunnel.method.span, message, format!("It can with {}; or give the site another platform.", others.join(" or ")));
    }
}

/// What can be said of single packets.
fn packets(tunnel: &Tunnel, site: &Site, say: Say<'_>) {
    let facts = &site.platform.value;
    if let (Some(wanted), ReplayWindow::Fixed(packets)) = (&tunnel.replay_window, facts.replay_window)
        && wanted.value != packets
    {
        let message = format!("{} has a window of {packets} packets", title(site));
        say(wanted.span, message, format!("Leave `replay-window` out, or say {packets}."));
    }
    if let (Some(span), false) = (tunnel.extended_sequence, facts.has_long_sequence_numbers()) {
        let remedy = "Remove `extended-sequence-numbers`; a shorter `esp-lifetime` replaces the keys before 32 bits are used up.";
        say(span, format!("{} cannot count ESP packets in 64 bits", title(site)), remedy.to_owned());
    }
    // What is longer than any is found elsewhere.
    for (what, life) in [("ike-lifetime", &tunnel.ike_lifetime), ("esp-lifetime", &tunnel.esp_lifetime)] {
        if life.value > facts.longest_lifetime && facts.longest_lifetime < LONGEST {
            let longest = duration_words(facts.longest_lifetime);
            say(life.span, format!("{} has lifetimes of at most {longest}", title(site)), format!("Say `{what} = \"{longest}\"` or less."));
        }
    }
    if !facts.dscp.contains(&tunnel.dscp.value) {
        let can = if facts.dscp.contains(&Dscp::Both) { "`outwards` or `both`" } else { "`outwards`" };
        say(tunnel.dscp.span, format!("{} always copies the DSCP outwards", title(site)), format!("Say {can}."));
    }
}

/// Algorithms that a site allows although its platform cannot do them.
fn in_vain(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    for site in &description.sites {
        let facts = &site.platform.value;
        for narrowing in &site.allows {
            let able = |row: &Row| [Sa::Ike, Sa::Esp].iter().any(|sa| facts.can(Transform::of(row), *sa));
            for row in narrowing.rows.iter().filter(|row| !able(row.value)) {
                let message = format!("{} cannot do `{}` anyway", title(site), row.value.name);
                findings.push(Finding::new(&rules::ALLOWED_IN_VAIN, message).at(description.source.place(row.span)));
            }
        }
    }
    findings
}

type Say<'a> = &'a mut dyn FnMut(Span, String, String);

fn title(site: &Site) -> String {
    format!("{} ({})", site.name.value, site.platform.value.title)
}

/// Both ends must know the kind of an identity: one sends it, the other expects it.
fn identity(site: &Site, ends: [&Site; 2], say: Say<'_>) {
    let Some(id) = site.identity.as_ref().filter(|id| matches!(id.value, Identity::Free(_))) else { return };
    if let Some(end) = ends.into_iter().find(|end| !end.platform.value.identities.free) {
        let message = format!("{} does not know identities without form", title(end));
        say(id.span, message, format!("Use a DNS name, for example `identity = {{ name = \"{}.example.net\" }}`.", site.name.value));
    }
}

/// A platform that does not speak the version of the key exchange.
fn version(tunnel: &Tunnel, site: &Site, say: Say<'_>) {
    if !site.platform.value.versions.contains(&tunnel.version.value) {
        let word = |version| if version == IkeVersion::V1 { "ikev1" } else { "ikev2" };
        let nearest = site.platform.value.versions.iter().copied().next_back().unwrap_or(IkeVersion::V2);
        let message = format!("{} does not speak {}", title(site), word(tunnel.version.value));
        say(tunnel.version.span, message, format!("Say `version = \"{}\"`, or give the site another platform.", word(nearest)));
    }
}

/// A platform that, having several pairs in IKEv1, does not come back from a dead peer by itself.
fn shared_v1(description: &Description, tunnel: &Tunnel, end: usize, say: Say<'_>) {
    let site = description.ends(tunnel)[end];
    let opens = tunnel.initiator.is_none_or(|starter| starter == end) && tunnel.opens.value != Opens::ByHand;
    // Several tunnels between two sites share it, too.
    let alone = tunnel.pairs.len() < 2 && description.siblings(tunnel).next().is_none();
    let several = tunnel.version.value == IkeVersion::V1 && !alone;
    if site.platform.value.dead_peer == DeadPeer::KeptWhileAsked && several && opens && tunnel.liveness.is_some() {
        let message = format!(
            "{} keeps a dead peer's IKE SA of IKEv1 while several pairs share it: the tunnel would come back after {}",
            title(site),
            duration_words(tunnel.ike_lifetime.value)
        );
        let remedy = "Let the other end open it with `initiator`, carry one larger network, or use IKEv2; or say `liveness = \"off\"`.";
        say(tunnel.version.span, message, remedy.to_owned());
    }
}

/// An end that is to open the tunnel in a way it cannot.
fn opening(tunnel: &Tunnel, end: usize, ends: [&Site; 2], say: Say<'_>) {
    let can = &ends[end].platform.value;
    let (other, span) = (&ends[1 - end].name.value, tunnel.opens.span);
    let alone = tunnel.initiator == Some(end);
    let opens = tunnel.initiator.is_none_or(|starter| starter == end);
    let site = || title(ends[end]);
    match tunnel.opens.value {
        Opens::OnTraffic if opens && !can.opens(OpeningWay::OnTraffic) => {
            say(
                span,
                format!("{} cannot open on traffic", site()),
                format!("Say `opens = \"at-once\"`, or let {other} open: `initiator = \"{other}\"`."),
            );
        }
        // The second of two that may open waits for traffic, so that they do not collide.
        Opens::AtOnce if tunnel.initiator.is_none() && end == 1 && !can.opens(OpeningWay::OnTraffic) => {
            say(
                span,
                format!("{}, the second end, cannot wait for traffic to open", site()),
                format!("Turn `between` round, or say `initiator = \"{other}\"`."),
            );
        }
        Opens::ByHand if alone && !can.opens(OpeningWay::ByHand) => {
            say(
                span,
                format!("{} has no command to open a tunnel", site()),
                format!("Say `opens = \"at-once\"`, or let {other} open: `initiator = \"{other}\"`."),
            );
        }
        _ => {}
    }
}

/// One end that can be told is enough: the other one follows what it detects.
fn encapsulation(tunnel: &Tunnel, ends: [&Site; 2], say: Say<'_>) {
    let wanted = tunnel.encapsulation.value;
    if let Some(site) = ends.into_iter().find(|site| wanted == Encapsulation::Off && blind(site)) {
        let message = format!("{} does not know its own address, and takes every path for one with a NAT device", title(site));
        say(tunnel.encapsulation.span, message, "Say `nat-traversal = \"automatic\"`, or give its gateway an address.".to_owned());
        return;
    }
    if ends.iter().any(|site| site.platform.value.encapsulations.contains(&wanted)) {
        return;
    }
    let word = if wanted == Encapsulation::Forced { "force ESP into UDP" } else { "keep ESP out of UDP" };
    let message = format!("neither {} nor {} can {word} for one tunnel", title(ends[0]), title(ends[1]));
    say(tunnel.encapsulation.span, message, "Say `nat-traversal = \"automatic\"`, or give one of the sites another platform.".to_owned());
}

fn pairs(description: &Description, tunnel: &Tunnel, say: Say<'_>) {
    if let Bundle::Impossible(why) = bundle(description, tunnel) {
        let remedy = "Put all of them into GRE with `carrier = \"gre\"`; carry one pair in this tunnel, or one larger network that covers them, with `carries`; or change one of the platforms.";
        say(tunnel.carries, why, remedy.to_owned());
    }
}

/// Daemons that give an SA to one alone of several connections with the same selectors.
fn equal_selectors(description: &Description, say: Say<'_>) {
    let mut taken: BTreeMap<(usize, IpNet, IpNet), &Tunnel> = BTreeMap::new();
    for tunnel in &description.tunnels {
        let Some(end) = description.crowded_end(tunnel) else { continue };
        let site = tunnel.between[end].value;
        let mut same = None;
        for (own, remote) in seen_pairs(description, tunnel, end) {
            let first = *taken.entry((site, own, remote)).or_insert(tunnel);
            same = same.or(Some(first).filter(|first| !std::ptr::eq(*first, tunnel)));
        }
        if let Some(other) = same {
            let alone = format!("{} has SAs for one alone of several tunnels with the same selectors", title(&description.sites[site]));
            let message = format!("{alone}, and those of `{}` are among those of `{}`", tunnel.name.value, other.name.value);
            let remedy = "Give it one hub, or put its packets into GRE with `carrier = \"gre\"`.";
            say(tunnel.name.span, message, remedy.to_owned());
        }
    }
}

/// A daemon with one interval for everything, and tunnels that ask for different ones.
fn liveness(description: &Description, say: Say<'_>) {
    let mut firsts: BTreeMap<usize, &Tunnel> = BTreeMap::new();
    for tunnel in &description.tunnels {
        for (end, site) in tunnel.between.iter().zip(description.ends(tunnel)) {
            if site.platform.value.liveness != Liveness::OfDaemon {
                continue;
            }
            let first = *firsts.entry(end.value).or_insert(tunnel);
            if tunnel.liveness == first.liveness {
                continue;
            }
            let words = |tunnel: &Tunnel| tunnel.liveness.map_or("off".to_owned(), duration_words);
            let message = format!(
                "{} has one liveness interval for all tunnels: `{}` has {}, `{}` has {}",
                title(site),
                first.name.value,
                words(first),
                tunnel.name.value,
                words(tunnel)
            );
            say(tunnel.liveness_at, message, format!("Say `liveness = \"{}\"` here too.", words(first)));
        }
    }
}
