//! A rule of nft(8), statement by statement.

use std::borrow::Cow;
use std::sync::Arc;

use ipnet::IpNet;

use crate::packet_filter::values;
use uspan_model::gateway::{Action, ChainRule, NatTarget, State, Test, What};

/// What begins a condition or a statement of a rule.
const STARTS: &[&str] = &[
    "ip",
    "ip6",
    "meta",
    "iifname",
    "oifname",
    "iif",
    "oif",
    "tcp",
    "udp",
    "th",
    "ct",
    "icmp",
    "icmpv6",
    "rt",
    "ipsec",
    "limit",
    "counter",
    "log",
    "accept",
    "drop",
    "reject",
    "return",
    "continue",
    "jump",
    "goto",
    "masquerade",
    "snat",
    "dnat",
    "redirect",
    "queue",
    "tproxy",
    "notrack",
    "comment",
    "fib",
    "mark",
    "ether",
    "vlan",
    "arp",
    "sctp",
    "socket",
    "flow",
    "dup",
    "fwd",
    "synproxy",
];

/// The networks that were read last: the same ones come again in very many rules.
#[derive(Default)]
pub(super) struct NetworkSets(Vec<(String, Arc<[IpNet]>)>);

impl NetworkSets {
    fn net(&mut self, text: &str) -> Option<Arc<[IpNet]>> {
        if let Some((_, net)) = self.0.iter().find(|(known, _)| known == text) {
            return Some(net.clone());
        }
        let net: Arc<[IpNet]> = [values::net(text)?].into();
        // More are not worth a search.
        self.0.truncate(7);
        self.0.push((text.to_owned(), net.clone()));
        Some(net)
    }
}

/// What a condition is about.
#[derive(Clone, Copy)]
enum TestSubject {
    Source,
    Destination,
    Into,
    OutOf,
    Protocol,
    Family,
    /// Of this transport protocol, where one is named.
    Port(Option<u8>),
    SourcePort(Option<u8>),
    State,
    Icmp(bool),
}

impl TestSubject {
    fn at<'w, 'a>(words: &'w [&'a str]) -> Option<(TestSubject, &'w [&'a str])> {
        Some(match words {
            ["ip" | "ip6", "saddr", rest @ ..] => (TestSubject::Source, rest),
            ["ip" | "ip6", "daddr", rest @ ..] => (TestSubject::Destination, rest),
            ["meta", "iifname" | "iif", rest @ ..] | ["iifname" | "iif", rest @ ..] => (TestSubject::OutOf, rest),
            ["meta", "oifname" | "oif", rest @ ..] | ["oifname" | "oif", rest @ ..] => (TestSubject::Into, rest),
            ["meta", "l4proto", rest @ ..] | ["ip", "protocol", rest @ ..] | ["ip6", "nexthdr", rest @ ..] => (TestSubject::Protocol, rest),
            ["meta", "nfproto" | "protocol", rest @ ..] => (TestSubject::Family, rest),
            ["tcp", "dport", rest @ ..] => (TestSubject::Port(Some(6)), rest),
            ["udp", "dport", rest @ ..] => (TestSubject::Port(Some(17)), rest),
            ["th", "dport", rest @ ..] => (TestSubject::Port(None), rest),
            ["tcp", "sport", rest @ ..] => (TestSubject::SourcePort(Some(6)), rest),
            ["udp", "sport", rest @ ..] => (TestSubject::SourcePort(Some(17)), rest),
            ["th", "sport", rest @ ..] => (TestSubject::SourcePort(None), rest),
            ["ct", "state", rest @ ..] => (TestSubject::State, rest),
            ["icmp", "type", rest @ ..] => (TestSubject::Icmp(true), rest),
            ["icmpv6", "type", rest @ ..] => (TestSubject::Icmp(false), rest),
            _ => return None,
        })
    }

    fn what(self, values: &[&str], known: &mut NetworkSets) -> Option<What> {
        fn each<T>(values: &[&str], read: impl Fn(&str) -> Option<T>) -> Option<Vec<T>> {
            values.iter().map(|value| read(value)).collect()
        }
        let mut nets = || match values {
            [one] if memchr::memchr(b'-', one.as_bytes()).is_none() => known.net(one),
            several => {
                let mut nets = Vec::new();
                several.iter().try_for_each(|value| values::nets(value, &mut nets)).map(|()| nets.into())
            }
        };
        let names = || values.iter().map(|name| name.trim_matches('"').to_owned()).collect();
        Some(match self {
            TestSubject::Source => What::Source(nets()?),
            TestSubject::Destination => What::Destination(nets()?),
            TestSubject::Into => What::Into(names()),
            TestSubject::OutOf => What::OutOf(names()),
            TestSubject::Protocol => What::Protocol(each(values, values::protocol)?),
            TestSubject::Family => match values {
                ["ipv4" | "ip"] => What::Ipv4(true),
                ["ipv6" | "ip6"] => What::Ipv4(false),
                _ => return None,
            },
            TestSubject::Port(_) => What::Port(each(values, |value| values::ports(value, '-'))?),
            TestSubject::SourcePort(_) => What::SourcePort(each(values, |value| values::ports(value, '-'))?),
            TestSubject::State => What::State(each::<State>(values, values::state)?),
            TestSubject::Icmp(ipv4) => What::Icmp(each(values, |value| values::icmp(value, ipv4))?),
        })
    }

    /// Adds its conditions to a rule's: what was understood of it, and the protocol that it implies.
    fn ask(self, what: Option<What>, not: bool, rule: &mut ChainRule) {
        let protocol = self.protocol().map(|protocol| Test { not: false, what: What::Protocol(vec![protocol]) });
        rule.tests.extend(protocol);
        rule.tests.push(Test { not, what: what.unwrap_or(What::Other) });
    }

    /// The protocol that it implies.
    fn protocol(self) -> Option<u8> {
        match self {
            TestSubject::Port(protocol) | TestSubject::SourcePort(protocol) => protocol,
            TestSubject::Icmp(ipv4) => Some(if ipv4 { 1 } else { 58 }),
            _ => None,
        }
    }
}

/// The values of a condition, and the rest: one word, several of a state, or a set in braces.
fn values<'w, 'a>(words: &'w [&'a str], state: bool) -> Option<(Cow<'w, [&'a str]>, &'w [&'a str])> {
    match words {
        ["{", ..] => {
            let mut depth = 0_usize;
            let end = words.iter().position(|word| {
                depth = if *word == "{" { depth + 1 } else { depth - usize::from(*word == "}") };
                depth == 0
            })?;
            let inner = words[1..end].iter().filter(|word| !matches!(**word, "{" | "}"));
            Some((inner.copied().collect(), &words[end + 1..]))
        }
        _ if state => {
            let count = words.iter().take_while(|word| values::state(word).is_some()).count();
            (count > 0).then(|| (Cow::Borrowed(&words[..count]), &words[count..]))
        }
        [_, rest @ ..] => Some((Cow::Borrowed(&words[..1]), rest)),
        [] => None,
    }
}

/// Reads the rest of a rule, of which something is read already. A map of verdicts makes several of one.
pub(super) fn rule(mut words: &[&str], mut begun: ChainRule, known: &mut NetworkSets, into: &mut Vec<ChainRule>) {
    loop {
        if let Some((about, rest)) = TestSubject::at(words) {
            if let ["vmap", rest @ ..] = rest {
                return verdicts(about, rest, &begun, known, into);
            }
            let (not, rest) = match rest {
                ["!=" | "not", rest @ ..] => (true, rest),
                ["==" | "eq", rest @ ..] => (false, rest),
                _ => (false, rest),
            };
            if let Some((values, rest)) = values(rest, matches!(about, TestSubject::State)) {
                // Of several things joined to one nobody knows here.
                let joined = matches!(rest, ["." | "&" | "|" | "^", ..]);
                about.ask(about.what(&values, known).filter(|_| !joined), not, &mut begun);
                words = if joined { beyond(rest) } else { rest };
                continue;
            }
        }
        let test = |what: What, not: bool| Test { not, what };
        words = match words {
            [] => break,
            ["counter", "packets", _, "bytes", _, rest @ ..] | ["counter", "name", _, rest @ ..] | ["counter", rest @ ..] => rest,
            ["comment", _, rest @ ..] | ["continue", rest @ ..] => rest,
            ["rt", "ipsec", is @ ("exists" | "missing"), rest @ ..] => {
                begun.tests.push(test(What::Leaving, *is == "missing"));
                rest
            }
            ["meta", "ipsec" | "secpath", is @ ("exists" | "missing"), rest @ ..] | ["ipsec", is @ ("exists" | "missing"), rest @ ..] => {
                begun.tests.push(test(What::Arrived, *is == "missing"));
                rest
            }
            ["limit", "rate", rest @ ..] => {
                let (over, rest) = if let ["over", rest @ ..] = rest { (true, rest) } else { (false, rest) };
                let unit = rest.iter().take(2).position(|word| word.contains('/')).unwrap_or(0);
                let number = rest.get(unit).and_then(|word| word.strip_suffix("/second")).and_then(|number| number.parse().ok());
                begun.tests.push(test(What::Rate { over, a_second: number }, false));
                match rest.get(unit + 1..).unwrap_or_default() {
                    ["burst", _, "packets" | "bytes" | "kbytes" | "mbytes", rest @ ..] => rest,
                    rest => rest,
                }
            }
            ["log", rest @ ..] => {
                begun.logs = true;
                let mut rest = rest;
                while let ["prefix" | "level" | "group" | "flags" | "snaplen" | "queue-threshold", _, more @ ..] = rest {
                    rest = more;
                }
                rest
            }
            ["tcp", "flags", "syn", "tcp", "option", "maxseg", "size", "set", bytes, ..] if bytes.parse::<u16>().is_ok() => {
                begun.action = Action::Segments(bytes.parse().unwrap_or_default());
                break;
            }
            [
                "accept" | "drop" | "reject" | "return" | "jump" | "goto" | "masquerade" | "snat" | "dnat" | "redirect" | "queue"
                | "tproxy" | "synproxy" | "fwd",
                ..,
            ] => {
                begun.action = action(words);
                break;
            }
            // What sets a mark or the like matters to others.
            ["notrack", rest @ ..] | ["meta" | "ct", _, "set", _, rest @ ..] => rest,
            _ => {
                begun.tests.push(test(What::Other, false));
                beyond(words)
            }
        };
    }
    into.push(begun);
}

/// Behind something that is not understood: the next thing that could begin.
fn beyond<'w, 'a>(words: &'w [&'a str]) -> &'w [&'a str] {
    let skipped = words.iter().skip(1).take_while(|word| !STARTS.contains(word)).count();
    words.get(1 + skipped..).unwrap_or_default()
}

fn action(words: &[&str]) -> Action {
    let translate = |target: Option<NatTarget>| target.map_or(Action::Other, Action::Translate);
    match words {
        ["accept", ..] => Action::Accept,
        ["drop" | "reject", ..] => Action::Drop,
        ["return", ..] => Action::Return,
        ["jump", chain, ..] => Action::Jump((*chain).to_owned()),
        ["goto", chain, ..] => Action::Goto((*chain).to_owned()),
        ["masquerade", ..] => Action::Masquerade,
        ["snat", "ip" | "ip6", "prefix", "to", net, ..] | ["snat", "prefix", "to", net, ..] => {
            translate(values::net(net).map(NatTarget::SourceNet))
        }
        ["dnat", "ip" | "ip6", "prefix", "to", net, ..] | ["dnat", "prefix", "to", net, ..] => {
            translate(values::net(net).map(NatTarget::DestinationNet))
        }
        ["snat", "ip" | "ip6", "to", address, ..] | ["snat", "to", address, ..] | ["snat", address] => {
            translate(address.parse().ok().map(NatTarget::SourceTo))
        }
        _ => Action::Other,
    }
}

/// A map from values to verdicts: a rule for each.
fn verdicts(about: TestSubject, words: &[&str], begun: &ChainRule, known: &mut NetworkSets, into: &mut Vec<ChainRule>) {
    let Some((entries, _)) = values(words, false) else {
        return into.push(ChainRule { action: Action::Other, ..begun.clone() });
    };
    let mut keys = entries.iter().enumerate().filter(|(_, word)| **word == ":").map(|(at, _)| at).peekable();
    if keys.peek().is_none() {
        return into.push(ChainRule { action: Action::Other, ..begun.clone() });
    }
    while let Some(at) = keys.next() {
        let end = keys.peek().map_or(entries.len(), |next| next.saturating_sub(1));
        let (Some(key), Some(verdict)) = (at.checked_sub(1).map(|before| entries[before]), entries.get(at + 1..end)) else { continue };
        let mut rule = begun.clone();
        about.ask(about.what(&[key], known), false, &mut rule);
        rule.action = action(verdict);
        into.push(rule);
    }
}
