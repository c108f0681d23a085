//! Reads rulesets: what the writer writes, and names everything else.

use std::net::IpAddr;

use ipnet::IpNet;

use super::syntax::{Statement, parse};
use super::{DEPARTURE_ORDER, FOLDER};
use crate::finding::{self as rules, Finding};
use crate::gateway::{
    Endpoint, Filter, FilterForm, FilterRule, Hook, NatRule, NatTarget, Ports, Protection, SegmentLimit, Traffic, Transport, Tree, Verdict,
    Whence,
};
use crate::packet_filter::{FoundRules, LOG_RATE};
use crate::source::Source;

pub(super) fn read(tree: &Tree) -> FoundRules {
    let mut found = Found::default();
    for (path, file) in tree.in_folder(FOLDER, ".nft") {
        let source = Source::new(path, file.text.as_str());
        for statement in parse(&source, &mut found.findings) {
            match statement.words.as_slice() {
                ["table", _, _] => statement.block.iter().for_each(|inner| found.chain(&source, inner)),
                ["delete", "table", ..] => {}
                _ => found.unknown(&source, &statement),
            }
        }
    }
    for (path, file) in tree.in_folder(FOLDER, ".chains") {
        let source = Source::new(path, file.text.as_str());
        for statement in parse(&source, &mut found.findings) {
            found.chain(&source, &statement);
        }
    }
    found.nat.sort_by_key(|rule| rule.order);
    found.rules.sort_by_key(|rule| rule.hook);
    let filter = found.form.map(|form| Filter { form, rules: found.rules });
    FoundRules { nat: found.nat, filter, segment_limits: found.limits, findings: found.findings }
}

#[derive(Default)]
struct Found {
    nat: Vec<NatRule>,
    limits: Vec<SegmentLimit>,
    rules: Vec<FilterRule>,
    form: Option<FilterForm>,
    findings: Vec<Finding>,
}

/// What a chain is for.
enum Role {
    Nat(i32),
    /// With the form of the filter, where the chain tells it.
    Filter(Option<FilterForm>, Hook),
    Limit,
}

impl Found {
    fn unknown(&mut self, source: &Source, statement: &Statement<'_>) {
        let message = format!("`{}` is not understood", statement.words.join(" "));
        self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(statement.span)));
    }

    fn chain(&mut self, source: &Source, chain: &Statement<'_>) {
        let ["chain", name] = chain.words.as_slice() else { return self.unknown(source, chain) };
        let mut role = match name.rsplit_once('-') {
            Some((_, "input")) => Some(Role::Filter(Some(FilterForm::Joined), Hook::Input)),
            Some((_, "forward")) => Some(Role::Filter(Some(FilterForm::Joined), Hook::Forward)),
            Some((_, "output")) => Some(Role::Filter(Some(FilterForm::Joined), Hook::Output)),
            _ => None,
        };
        for statement in &chain.block {
            match (statement.words.as_slice(), &role) {
                (["type", "nat", "hook", "postrouting" | "prerouting", "priority", order], _) => role = order.parse().ok().map(Role::Nat),
                (["type", "filter", "hook", "input", "priority", "0"], _) => {
                    role = Some(Role::Filter(Some(FilterForm::Standalone), Hook::Input));
                }
                (["type", "filter", "hook", "forward", "priority", "0"], _) => {
                    role = Some(Role::Filter(Some(FilterForm::Standalone), Hook::Forward));
                }
                (["type", "filter", "hook", "output", "priority", "0"], _) => {
                    role = Some(Role::Filter(Some(FilterForm::Standalone), Hook::Output));
                }
                (["type", "filter", "hook", "forward", "priority", "-150"], _) => role = Some(Role::Limit),
                (["type", "filter", "hook", "postrouting", "priority", order], _) if *order == DEPARTURE_ORDER.to_string() => {
                    role = Some(Role::Filter(None, Hook::Departure));
                }
                (["policy", "accept"], _) => {}
                (words, Some(Role::Limit)) => match limit(words) {
                    Some(limit) => self.limits.push(limit),
                    None => self.unknown(source, statement),
                },
                (words, Some(Role::Nat(order))) => match nat_rule(words, *order) {
                    Some(rule) => self.nat.push(NatRule { place: Whence(Some(source.place(statement.span))), ..rule }),
                    None => self.unknown(source, statement),
                },
                (words, Some(Role::Filter(_, hook))) => match filter_rule(words, *hook) {
                    Some(rule) => self.rules.push(FilterRule { place: Whence(Some(source.place(statement.span))), ..rule }),
                    None => self.unknown(source, statement),
                },
                _ => self.unknown(source, statement),
            }
        }
        if let Some(Role::Filter(Some(form), _)) = role {
            self.form = Some(form);
        }
    }
}

fn net(text: &str) -> Option<IpNet> {
    text.parse().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
}

/// Every address of a family.
fn all(ipv4: bool) -> IpNet {
    Endpoint::Anywhere.range(ipv4)
}

/// Source and destination at the head of a rule, and the rest of it.
fn ends<'w, 'a>(words: &'w [&'a str]) -> Option<(IpNet, IpNet, &'w [&'a str])> {
    match words {
        ["ip" | "ip6", "saddr", from, "ip" | "ip6", "daddr", to, rest @ ..] => Some((net(from)?, net(to)?, rest)),
        ["ip" | "ip6", "saddr", from, rest @ ..] => net(from).map(|from| (from, all(from.addr().is_ipv4()), rest)),
        ["ip" | "ip6", "daddr", to, rest @ ..] => net(to).map(|to| (all(to.addr().is_ipv4()), to, rest)),
        ["meta", "nfproto", family @ ("ipv4" | "ipv6"), rest @ ..] => Some((all(*family == "ipv4"), all(*family == "ipv4"), rest)),
        _ => None,
    }
}

/// Skips a counter, with or without the figures that a listing adds.
fn without_counter<'w, 'a>(words: &'w [&'a str]) -> &'w [&'a str] {
    match words {
        ["counter", "packets", _, "bytes", _, rest @ ..] | ["counter", rest @ ..] => rest,
        _ => words,
    }
}

fn nat_rule(words: &[&str], order: i32) -> Option<NatRule> {
    let (from, to, rest) = ends(words)?;
    let target = match without_counter(rest) {
        ["snat", "ip" | "ip6", "prefix", "to", same] if net(same)? == from => NatTarget::KeepSource,
        ["snat", "ip" | "ip6", "prefix", "to", other] => NatTarget::SourceNet(net(other)?),
        ["dnat", "ip" | "ip6", "prefix", "to", other] => NatTarget::DestinationNet(net(other)?),
        ["snat", "to", address] => NatTarget::SourceTo(address.parse().ok()?),
        _ => return None,
    };
    Some(NatRule { from, to, target, order, place: Whence::default() })
}

fn limit(words: &[&str]) -> Option<SegmentLimit> {
    let ["oifname", name, "meta", "nfproto", family, "tcp", "flags", "syn", "tcp", "option", "maxseg", "size", "set", bytes] = words else {
        return None;
    };
    let interface = name.trim_matches('"').to_owned();
    Some(SegmentLimit { interface, ipv4: *family == "ipv4", bytes: bytes.parse().ok()? })
}

fn filter_rule(words: &[&str], hook: Hook) -> Option<FilterRule> {
    let (from, to, rest) = ends(words)?;
    let (protection, rest) = match rest {
        ["rt", "ipsec", "exists", rest @ ..] => (Protection::Leaving, rest),
        ["meta", "ipsec", "exists", rest @ ..] => (Protection::Arrived, rest),
        ["oifname", name, rest @ ..] => (Protection::Into(name.trim_matches('"').to_owned()), rest),
        ["iifname", name, rest @ ..] => (Protection::OutOf(name.trim_matches('"').to_owned()), rest),
        _ => (Protection::Any, rest),
    };
    let (traffic, rest) = match rest {
        ["meta", "l4proto", "esp", rest @ ..] => (Traffic::Esp, rest),
        ["meta", "l4proto", "gre", rest @ ..] => (Traffic::Gre, rest),
        ["ct", "state", "established", "related", rest @ ..] => (Traffic::Replies, rest),
        ["icmp" | "icmpv6", "type", "echo-request", rest @ ..] => (Traffic::Ping, rest),
        ["tcp", "dport", ports, rest @ ..] => (Traffic::To(Transport::Tcp, Ports::read(ports, '-')?), rest),
        ["udp", "dport", ports, rest @ ..] if *ports != "{" => (Traffic::To(Transport::Udp, Ports::read(ports, '-')?), rest),
        ["udp", "dport", "{", rest @ ..] => {
            let end = rest.iter().position(|word| *word == "}")?;
            (Traffic::Udp(rest[..end].iter().map(|port| port.parse().ok()).collect::<Option<_>>()?), &rest[end + 1..])
        }
        _ => (Traffic::Any, rest),
    };
    let verdict = match without_counter(rest) {
        ["accept"] => Verdict::Accept,
        ["drop"] => Verdict::Drop,
        ["limit", "rate", rate, "log", "prefix", _] if *rate == format!("{LOG_RATE}/second") => Verdict::Log,
        _ => return None,
    };
    Some(FilterRule { hook, from, to, protection, traffic, verdict, place: Whence::default() })
}
