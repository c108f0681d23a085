//! Reads files in the format of iptables-restore(8): what the writer writes, and names everything else.

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::IpNet;

use super::names::{DESTINATION, FORWARD, INPUT, NAT, OUTPUT, SEGMENTS};
use super::{FAMILIES, FOLDER};
use crate::finding::{self as rules, Finding};
use crate::gateway::{
    Filter, FilterForm, FilterRule, Hook, NatRule, NatTarget, Ports, Protection, SegmentLimit, Traffic, Transport, Tree, Verdict, Whence,
};
use crate::packet_filter::{DESTINATION_ORDER, EXEMPTION_ORDER, FoundRules, LOG_RATE};
use crate::source::{Source, Span};

pub(super) fn read(tree: &Tree) -> FoundRules {
    let mut found = Found::default();
    for family in &FAMILIES {
        for ending in [family.jumps, family.rules] {
            for (path, file) in tree.in_folder(FOLDER, &format!(".{ending}")) {
                found.file(&Source::new(path, file.text.as_str()), family.ipv4);
            }
        }
    }
    found.rules.sort_by_key(|rule| rule.hook);
    found.nat.sort_by_key(|rule| rule.order);
    let form = if found.hooked { FilterForm::Standalone } else { FilterForm::Joined };
    let filter = (found.chains > 0).then_some(Filter { form, rules: found.rules });
    FoundRules { nat: found.nat, filter, segment_limits: found.limits, findings: found.findings }
}

#[derive(Default)]
struct Found {
    nat: Vec<NatRule>,
    rules: Vec<FilterRule>,
    limits: Vec<SegmentLimit>,
    /// Chains that the head of a built-in chain jumps to.
    jumped: BTreeSet<String>,
    /// Whether a filter chain is among them.
    hooked: bool,
    /// How many filter chains are declared.
    chains: usize,
    findings: Vec<Finding>,
}

/// What a chain is for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Role {
    Nat,
    Destination,
    Segments,
    Filter(Hook),
}

fn role(table: &str, chain: &str) -> Option<Role> {
    let ends = |end: &str| chain.ends_with(end);
    match table {
        "nat" if ends(NAT) => Some(Role::Nat),
        "nat" if ends(DESTINATION) => Some(Role::Destination),
        "mangle" if ends(SEGMENTS) => Some(Role::Segments),
        "filter" if ends(INPUT) => Some(Role::Filter(Hook::Input)),
        "filter" if ends(FORWARD) => Some(Role::Filter(Hook::Forward)),
        "filter" if ends(OUTPUT) => Some(Role::Filter(Hook::Output)),
        _ => None,
    }
}

impl Found {
    fn file(&mut self, source: &Source, ipv4: bool) {
        let mut table = "";
        let mut start = 0;
        for line in source.text().split_inclusive('\n') {
            let span = Span { start, end: start + line.trim_end().len() };
            start += line.len();
            let words: Vec<&str> = line.split_whitespace().collect();
            let known = match words.as_slice() {
                [] | ["COMMIT"] => true,
                [first, ..] if first.starts_with('#') => true,
                [name] if name.starts_with('*') => {
                    table = &name[1..];
                    true
                }
                [name, "-", ..] if name.starts_with(':') => match role(table, &name[1..]) {
                    Some(Role::Filter(_)) => {
                        self.chains += 1;
                        true
                    }
                    other => other.is_some(),
                },
                ["-I", built_in, "-j", chain] => self.jump(table, built_in, chain),
                ["-A", chain, rest @ ..] if role(table, chain) == Some(Role::Segments) => self.limit(chain, rest, ipv4),
                ["-A", chain, rest @ ..] => self.rule(table, chain, rest, Whence(Some(source.place(span)))),
                _ => false,
            };
            if !known {
                let message = format!("`{}` is not understood", line.trim());
                self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(span)));
            }
        }
    }

    fn jump(&mut self, table: &str, built_in: &str, chain: &str) -> bool {
        let expected = match role(table, chain) {
            Some(Role::Nat) => "POSTROUTING",
            Some(Role::Destination) => "PREROUTING",
            Some(Role::Filter(Hook::Input)) => "INPUT",
            Some(Role::Filter(Hook::Output)) => "OUTPUT",
            Some(Role::Segments | Role::Filter(Hook::Forward)) => "FORWARD",
            Some(Role::Filter(Hook::Departure)) | None => return false,
        };
        self.hooked |= table == "filter";
        self.jumped.insert(chain.to_owned());
        expected == built_in
    }

    fn limit(&mut self, chain: &str, words: &[&str], ipv4: bool) -> bool {
        let ["-o", name, "-p", "tcp", "--tcp-flags", "SYN,RST", "SYN", "-j", "TCPMSS", "--set-mss", bytes] = words else { return false };
        let Ok(bytes) = bytes.parse() else { return false };
        self.limits.push(SegmentLimit { interface: (*name).to_owned(), ipv4, bytes });
        self.jumped.contains(chain)
    }

    fn rule(&mut self, table: &str, chain: &str, words: &[&str], place: Whence) -> bool {
        let (Some(role), Some(rule)) = (role(table, chain), parse(words)) else { return false };
        match role {
            // A chain that nothing jumps to exempts nothing.
            Role::Segments => return false,
            Role::Nat | Role::Destination if !self.jumped.contains(chain) => return false,
            Role::Nat | Role::Destination => {
                let (target, order) = match (rule.target, rule.to_source, rule.to_net, role) {
                    ("ACCEPT", None, None, Role::Nat) => (NatTarget::KeepSource, EXEMPTION_ORDER),
                    ("SNAT", Some(address), None, Role::Nat) => (NatTarget::SourceTo(address), EXEMPTION_ORDER),
                    ("NETMAP", None, Some(net), Role::Nat) => (NatTarget::SourceNet(net), EXEMPTION_ORDER),
                    ("NETMAP", None, Some(net), Role::Destination) => (NatTarget::DestinationNet(net), DESTINATION_ORDER),
                    _ => return false,
                };
                if rule.traffic != Traffic::Any || rule.protection != Protection::Any {
                    return false;
                }
                self.nat.push(NatRule { from: rule.from, to: rule.to, target, order, place });
            }
            Role::Filter(hook) => {
                let verdict = match (rule.target, rule.to_source) {
                    ("ACCEPT", None) => Verdict::Accept,
                    ("DROP", None) => Verdict::Drop,
                    ("LOG", None) => Verdict::Log,
                    _ => return false,
                };
                let Rule { from, to, protection, traffic, .. } = rule;
                self.rules.push(FilterRule { hook, from, to, protection, traffic, verdict, place });
            }
        }
        true
    }
}

/// A rule, before it is clear what its chain is for.
struct Rule<'a> {
    from: IpNet,
    to: IpNet,
    traffic: Traffic,
    protection: Protection,
    target: &'a str,
    to_source: Option<IpAddr>,
    to_net: Option<IpNet>,
}

fn net(text: &str) -> Option<IpNet> {
    text.parse().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
}

fn parse<'a>(words: &[&'a str]) -> Option<Rule<'a>> {
    let ["-s", from, "-d", to, rest @ ..] = words else { return None };
    let (traffic, rest) = match rest {
        ["-p", "udp", "-m", "multiport", "--dports", ports, rest @ ..] => {
            (Traffic::Udp(ports.split(',').map(|port| port.parse().ok()).collect::<Option<_>>()?), rest)
        }
        ["-p", "esp", rest @ ..] => (Traffic::Esp, rest),
        ["-p", "gre", rest @ ..] => (Traffic::Gre, rest),
        ["-m", "conntrack", "--ctstate", "RELATED,ESTABLISHED", rest @ ..] => (Traffic::Replies, rest),
        ["-p", "icmp", "-m", "icmp", "--icmp-type", "8", rest @ ..] => (Traffic::Ping, rest),
        ["-p", "ipv6-icmp", "-m", "icmp6", "--icmpv6-type", "128", rest @ ..] => (Traffic::Ping, rest),
        ["-p", "tcp", "-m", "tcp", "--dport", ports, rest @ ..] => (Traffic::To(Transport::Tcp, Ports::read(ports, ':')?), rest),
        ["-p", "udp", "-m", "udp", "--dport", ports, rest @ ..] => (Traffic::To(Transport::Udp, Ports::read(ports, ':')?), rest),
        _ => (Traffic::Any, rest),
    };
    let (protection, rest) = match rest {
        ["-m", "policy", "--dir", "out", "--pol", "ipsec", rest @ ..] => (Protection::Leaving, rest),
        ["-m", "policy", "--dir", "in", "--pol", "ipsec", rest @ ..] => (Protection::Arrived, rest),
        ["-o", name, rest @ ..] => (Protection::Into((*name).to_owned()), rest),
        ["-i", name, rest @ ..] => (Protection::OutOf((*name).to_owned()), rest),
        _ => (Protection::Any, rest),
    };
    let (target, to_source, to_net) = match rest {
        ["-j", target] => (*target, None, None),
        ["-m", "limit", "--limit", rate, "-j", target @ "LOG", "--log-prefix", ..] if *rate == format!("{LOG_RATE}/second") => {
            (*target, None, None)
        }
        ["-j", target, "--to-source", address] => (*target, Some(address.parse().ok()?), None),
        ["-j", target @ "NETMAP", "--to", other] => (*target, None, Some(net(other)?)),
        _ => return None,
    };
    Some(Rule { from: net(from)?, to: net(to)?, traffic, protection, target, to_source, to_net })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gateway::TreeFile;
    use proptest::prelude::*;

    fn tree(rules: &str, jumps: &str) -> Tree {
        let mut tree = Tree::default();
        tree.add("etc/iptables/uspan-x.v4", TreeFile::public(rules.to_owned()));
        tree.add("etc/iptables/uspan-x.v4-jumps", TreeFile::public(jumps.to_owned()));
        tree
    }

    #[test]
    fn an_exemption_without_its_jump_is_none() {
        let rules = "*nat\n:uspan-x-nat - [0:0]\n-A uspan-x-nat -s 10.1.0.0/16 -d 10.2.0.0/16 -j ACCEPT\nCOMMIT\n";
        let FoundRules { nat, filter, findings, .. } = read(&tree(rules, "*nat\n-I POSTROUTING -j uspan-x-nat\nCOMMIT\n"));
        assert_eq!((nat.len(), filter, findings.len()), (1, None, 0));
        let FoundRules { nat, findings, .. } = read(&tree(rules, ""));
        assert!(nat.is_empty());
        assert!(findings[0].message.contains("-A uspan-x-nat"), "{findings:?}");
    }

    #[test]
    fn a_rule_of_another_form_is_named_and_not_guessed_at() {
        let rules = "*filter\n:uspan-x-fwd - [0:0]\n-A uspan-x-fwd ! -s 10.1.0.0/16 -d 10.2.0.0/16 -j ACCEPT\nCOMMIT\n";
        let FoundRules { filter, findings, .. } = read(&tree(rules, ""));
        assert!(filter.is_some_and(|filter| filter.rules.is_empty()));
        let place = findings[0].place.as_ref().expect("a place");
        assert!(place.span.start > rules.find("-fwd - ").expect("there"), "{place:?}");
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[-*:ACIsdjpm natfilter./0-9\n#é]{0,200}") {
            let _ = read(&tree(&text, &text));
        }
    }
}
