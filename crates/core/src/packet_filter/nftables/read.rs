//! Reads rulesets: files as people write them, and listings of what is loaded (`nft list ruleset`).

use std::collections::{BTreeMap, BTreeSet};

use ipnet::IpNet;

use super::syntax::{Statement, parse};
use super::{FILES, FOLDER, LISTING};
use crate::finding::{self as rules, Finding};
use crate::gateway::{Action, Base, Hook, NatTarget, ReadAt, Rule, State, Task, Test, Tree, What};
use crate::packet_filter::ownership::{self, Chains};
use crate::packet_filter::{FoundRules, values};
use crate::platform::text::{Opened, included};
use crate::source::{Source, Span};

pub(super) fn read(tree: &Tree) -> FoundRules {
    let mut reader = NftReader::of(tree);
    if let Some(file) = tree.files.get(LISTING) {
        // What is loaded is what counts, whatever the files would load.
        reader.managed = managed(tree, &file.text);
        reader.file(LISTING, None);
    } else {
        let more = FILES.iter().flat_map(|folder| tree.in_folder(folder, ".nft")).map(|(path, _)| path);
        let chains = tree.in_folder(FOLDER, ".chains").map(|(path, _)| path);
        for path in std::iter::once("etc/nftables.conf").chain(more).chain(chains) {
            if tree.files.contains_key(path) && !reader.read.contains(path) {
                reader.file(path, None);
            }
        }
    }
    reader.findings.extend(reader.opened.finding());
    ownership::nftables(tree, reader.chains.all, reader.findings)
}

/// How many words all variables and sets together may grow to: those that stand for each other would fill any memory.
const EXPANDED: usize = 1_000_000;

/// The tables that belong to the other packet filter, as the listing says, where that has a listing of its own.
fn managed(tree: &Tree, text: &str) -> BTreeSet<String> {
    let named = text.lines().filter_map(|line| line.strip_prefix("# Warning: table ")?.split_once(" is managed by iptables-nft"));
    let listed = |table: &&str| tree.files.contains_key(if table.starts_with("ip6 ") { "listing/ip6tables" } else { "listing/iptables" });
    named.map(|(table, _)| table).filter(listed).map(str::to_owned).collect()
}

struct NftReader<'t> {
    tree: &'t Tree,
    /// Tables that are read from elsewhere.
    managed: BTreeSet<String>,
    chains: Chains,
    known: NetworkSets,
    /// What stands for what: `$name`, and `@name` within a table.
    defined: BTreeMap<String, Vec<String>>,
    read: BTreeSet<String>,
    opened: Opened,
    budget: usize,
    findings: Vec<Finding>,
}

/// A table's families and name.
#[derive(Clone, Copy)]
struct NftTable<'a> {
    family: &'a str,
    name: &'a str,
}

impl NftTable<'_> {
    fn key(&self) -> String {
        [self.family, " ", self.name].concat()
    }
}

/// A table by what stands behind `table`.
fn table<'a>(words: &[&'a str]) -> Option<NftTable<'a>> {
    match words {
        [family @ ("ip" | "ip6" | "inet" | "arp" | "bridge" | "netdev"), name] => Some(NftTable { family, name }),
        [name] => Some(NftTable { family: "ip", name }),
        _ => None,
    }
}

impl<'t> NftReader<'t> {
    fn of(tree: &'t Tree) -> NftReader<'t> {
        NftReader {
            tree,
            managed: BTreeSet::new(),
            chains: Chains::default(),
            known: NetworkSets::default(),
            defined: BTreeMap::new(),
            read: BTreeSet::new(),
            opened: Opened::of(tree),
            budget: EXPANDED,
            findings: Vec::new(),
        }
    }

    fn unknown(&mut self, source: &Source, statement: &Statement<'_>) {
        let message = format!("`{}` is not understood", statement.words.join(" "));
        self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(statement.span)));
    }

    fn file(&mut self, path: &str, within: Option<NftTable<'_>>) {
        let Some(file) = self.tree.files.get(path) else { return };
        if !self.opened.enter(path, &file.text) {
            return;
        }
        self.read.insert(path.to_owned());
        let source = Source::new(path, file.text.as_str());
        let statements = parse(&source, &mut self.findings);
        // A file of chains is nobody's until a table includes it.
        let within = within.or(path.ends_with(".chains").then_some(NftTable { family: "inet", name: "" }));
        self.statements(&source, &statements, within);
        self.opened.leave();
    }

    fn statements(&mut self, source: &Source, statements: &[Statement<'_>], within: Option<NftTable<'_>>) {
        // Sets count in their whole table, wherever they stand.
        for statement in statements {
            if let (["set" | "map", name], Some(table)) = (statement.words.as_slice(), within) {
                self.set(&statement.block, table, name);
            }
        }
        for statement in statements {
            let words = statement.words.as_slice();
            match (words, within) {
                (["include", pattern], _) => {
                    for path in included(self.tree, source.name(), pattern.trim_matches(['"', '\''])) {
                        self.file(&path, within);
                    }
                }
                (["define", name, "=", value @ ..] | ["redefine", name, "=", value @ ..], _) => {
                    let value = self.expanded(value, within);
                    self.defined.insert(format!("${name}"), value);
                }
                (["flush" | "delete" | "destroy" | "list", ..], _) => {}
                (["table", named @ ..] | ["add" | "create", "table", named @ ..], None) => match table(named) {
                    Some(table) if !self.managed.is_empty() && self.managed.contains(&table.key()) => {}
                    Some(table) => self.statements(source, &statement.block, Some(table)),
                    None => self.unknown(source, statement),
                },
                (["chain", name], Some(table)) => self.chain(source, statement, table, name),
                (["set" | "map", _], Some(_))
                | (["flowtable" | "counter" | "quota" | "limit" | "ct" | "secmark" | "synproxy", ..] | ["comment", _], Some(_)) => {}
                (["add" | "create", "chain", named @ .., name], None) => match table(named) {
                    Some(table) => self.chain(source, statement, table, name),
                    None => self.unknown(source, statement),
                },
                (["add" | "create", "set" | "map", named @ .., name], None) => match table(named) {
                    Some(table) => self.set(&statement.block, table, name),
                    None => self.unknown(source, statement),
                },
                ([verb @ ("add" | "insert"), "rule", rest @ ..], None) => {
                    let named = if matches!(rest, ["ip" | "ip6" | "inet", ..]) { 2 } else { 1 };
                    match rest.split_at_checked(named).and_then(|(named, rest)| Some((table(named)?, rest.split_first()?))) {
                        Some((table, (chain, words))) => {
                            let chain = self.chain_of(table, chain);
                            self.rule(source, statement.span, words, table, chain, *verb == "insert");
                        }
                        None => self.unknown(source, statement),
                    }
                }
                _ => self.unknown(source, statement),
            }
        }
    }

    fn chain_of(&mut self, table: NftTable<'_>, name: &str) -> usize {
        let families = [matches!(table.family, "ip" | "inet"), matches!(table.family, "ip6" | "inet")];
        self.chains.named(&table.key(), name, families)
    }

    fn chain(&mut self, source: &Source, chain: &Statement<'_>, table: NftTable<'_>, name: &str) {
        let at = self.chain_of(table, name);
        for statement in &chain.block {
            let place = ReadAt(Some(source.place(statement.span)));
            match statement.words.as_slice() {
                ["type", task, "hook", hook, rest @ ..] => {
                    // A device stands before the priority where there is one.
                    let order = rest.iter().position(|word| *word == "priority").and_then(|at| priority(&rest[at + 1..]));
                    match (task_and_hook(task, hook), order) {
                        (Some((task, hook)), Some(order)) => {
                            self.chains.all[at].base = Some(Base { hook, task, order, drops: false, place });
                        }
                        _ => self.unknown(source, statement),
                    }
                }
                ["policy", verdict @ ("accept" | "drop")] => {
                    if let Some(base) = &mut self.chains.all[at].base {
                        base.drops = *verdict == "drop";
                        base.place = place;
                    }
                }
                ["comment", _] | ["flags", ..] | ["devices", ..] => {}
                ["include", pattern] => {
                    for path in included(self.tree, source.name(), pattern.trim_matches(['"', '\''])) {
                        self.rules_of(&path, table, at);
                    }
                }
                words => self.rule(source, statement.span, words, table, at, false),
            }
        }
    }

    /// A file of rules that a chain includes.
    fn rules_of(&mut self, path: &str, table: NftTable<'_>, chain: usize) {
        let Some(file) = self.tree.files.get(path) else { return };
        if self.opened.enter(path, &file.text) {
            self.read.insert(path.to_owned());
            let source = Source::new(path, file.text.as_str());
            for statement in parse(&source, &mut self.findings) {
                self.rule(&source, statement.span, &statement.words, table, chain, false);
            }
            self.opened.leave();
        }
    }

    /// A set whose elements stand there, so that its name stands for them.
    fn set(&mut self, block: &[Statement<'_>], table: NftTable<'_>, name: &str) {
        let changes = |statement: &Statement<'_>| match statement.words.as_slice() {
            ["timeout", ..] => true,
            ["flags", flags @ ..] => flags.iter().any(|flag| matches!(*flag, "dynamic" | "timeout")),
            _ => false,
        };
        if block.iter().any(changes) {
            return;
        }
        let elements = block.iter().find_map(|statement| match statement.words.as_slice() {
            ["elements", "=", elements @ ..] => Some(elements),
            _ => None,
        });
        let mut value = self.expanded(elements.unwrap_or_default(), Some(table));
        if value.is_empty() {
            value = vec!["{".to_owned(), "}".to_owned()];
        }
        self.defined.insert(format!("@{} {name}", table.key()), value);
    }

    /// Words with what the variables and sets among them stand for.
    fn expanded(&mut self, words: &[&str], within: Option<NftTable<'_>>) -> Vec<String> {
        let mut expanded = Vec::with_capacity(words.len());
        for word in words {
            let key = match (word.strip_prefix('@'), within) {
                (Some(name), Some(table)) => format!("@{} {name}", table.key()),
                _ => (*word).to_owned(),
            };
            match self.defined.get(&key).filter(|value| value.len() <= self.budget) {
                Some(value) if word.starts_with(['$', '@']) => {
                    self.budget -= value.len();
                    expanded.extend(value.iter().cloned());
                }
                _ => expanded.push((*word).to_owned()),
            }
        }
        expanded
    }

    fn rule(&mut self, source: &Source, span: Span, words: &[&str], table: NftTable<'_>, chain: usize, first: bool) {
        let owned;
        let spread: Vec<&str>;
        let words = if words.iter().any(|word| word.starts_with(['$', '@'])) {
            owned = self.expanded(words, Some(table));
            spread = owned.iter().map(String::as_str).collect();
            spread.as_slice()
        } else {
            words
        };
        let place = ReadAt(Some(source.place(span)));
        let begun = Rule { tests: Vec::with_capacity(6), logs: false, action: Action::Next, place };
        let rules = &mut self.chains.all[chain].rules;
        if first {
            let mut parsed = Vec::new();
            rule(words, begun, &mut self.known, &mut parsed);
            rules.splice(0..0, parsed);
        } else {
            rule(words, begun, &mut self.known, rules);
        }
    }
}

fn task_and_hook(task: &str, hook: &str) -> Option<(Task, Hook)> {
    let hook = match hook {
        "prerouting" => Hook::Arrival,
        "input" => Hook::Input,
        "forward" => Hook::Forward,
        "output" => Hook::Output,
        "postrouting" => Hook::Departure,
        "ingress" | "egress" => return Some((Task::Other, Hook::Arrival)),
        _ => return None,
    };
    let task = match task {
        "filter" => Task::Pass,
        "nat" => Task::Translate,
        "route" => Task::Other,
        _ => return None,
    };
    Some((task, hook))
}

/// A priority: a number, or a name and what is added to it (nft(8)).
fn priority(words: &[&str]) -> Option<i32> {
    let text = words.concat();
    let name = text.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(text.len());
    let (name, more) = text.split_at(name);
    let base: i32 = match name {
        "" => 0,
        "raw" => -300,
        "mangle" => -150,
        "dstnat" => -100,
        "filter" => 0,
        "security" => 50,
        "srcnat" => 100,
        _ => return None,
    };
    let more: i32 = if more.is_empty() { (!name.is_empty()).then_some(0)? } else { more.parse().ok()? };
    base.checked_add(more)
}

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
struct NetworkSets(Vec<(String, IpNet)>);

impl NetworkSets {
    fn net(&mut self, text: &str) -> Option<IpNet> {
        if let Some((_, net)) = self.0.iter().find(|(known, _)| known == text) {
            return Some(*net);
        }
        let net = values::net(text)?;
        // More are not worth a search.
        self.0.truncate(7);
        self.0.push((text.to_owned(), net));
        Some(net)
    }
}

/// What a condition is about.
#[derive(Clone, Copy)]
enum About {
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

impl About {
    fn at<'w, 'a>(words: &'w [&'a str]) -> Option<(About, &'w [&'a str])> {
        Some(match words {
            ["ip" | "ip6", "saddr", rest @ ..] => (About::Source, rest),
            ["ip" | "ip6", "daddr", rest @ ..] => (About::Destination, rest),
            ["meta", "iifname" | "iif", rest @ ..] | ["iifname" | "iif", rest @ ..] => (About::OutOf, rest),
            ["meta", "oifname" | "oif", rest @ ..] | ["oifname" | "oif", rest @ ..] => (About::Into, rest),
            ["meta", "l4proto", rest @ ..] | ["ip", "protocol", rest @ ..] | ["ip6", "nexthdr", rest @ ..] => (About::Protocol, rest),
            ["meta", "nfproto" | "protocol", rest @ ..] => (About::Family, rest),
            ["tcp", "dport", rest @ ..] => (About::Port(Some(6)), rest),
            ["udp", "dport", rest @ ..] => (About::Port(Some(17)), rest),
            ["th", "dport", rest @ ..] => (About::Port(None), rest),
            ["tcp", "sport", rest @ ..] => (About::SourcePort(Some(6)), rest),
            ["udp", "sport", rest @ ..] => (About::SourcePort(Some(17)), rest),
            ["th", "sport", rest @ ..] => (About::SourcePort(None), rest),
            ["ct", "state", rest @ ..] => (About::State, rest),
            ["icmp", "type", rest @ ..] => (About::Icmp(true), rest),
            ["icmpv6", "type", rest @ ..] => (About::Icmp(false), rest),
            _ => return None,
        })
    }

    fn what(self, values: &[&str], known: &mut NetworkSets) -> Option<What> {
        fn each<T>(values: &[&str], read: impl Fn(&str) -> Option<T>) -> Option<Vec<T>> {
            values.iter().map(|value| read(value)).collect()
        }
        let mut nets = || match values {
            [one] if !one.contains('-') => Some(vec![known.net(one)?].into()),
            several => {
                let mut nets = Vec::new();
                several.iter().try_for_each(|value| values::nets(value, &mut nets)).map(|()| nets.into())
            }
        };
        let names = || values.iter().map(|name| name.trim_matches('"').to_owned()).collect();
        Some(match self {
            About::Source => What::Source(nets()?),
            About::Destination => What::Destination(nets()?),
            About::Into => What::Into(names()),
            About::OutOf => What::OutOf(names()),
            About::Protocol => What::Protocol(each(values, values::protocol)?),
            About::Family => match values {
                ["ipv4" | "ip"] => What::Ipv4(true),
                ["ipv6" | "ip6"] => What::Ipv4(false),
                _ => return None,
            },
            About::Port(_) => What::Port(each(values, |value| values::ports(value, '-'))?),
            About::SourcePort(_) => What::SourcePort(each(values, |value| values::ports(value, '-'))?),
            About::State => What::State(each::<State>(values, values::state)?),
            About::Icmp(ipv4) => What::Icmp(each(values, |value| values::icmp(value, ipv4))?),
        })
    }

    /// Adds its conditions to a rule's: what was understood of it, and the protocol that it implies.
    fn ask(self, what: Option<What>, not: bool, rule: &mut Rule) {
        let protocol = self.protocol().map(|protocol| Test { not: false, what: What::Protocol(vec![protocol]) });
        rule.tests.extend(protocol);
        rule.tests.push(Test { not, what: what.unwrap_or(What::Other) });
    }

    /// The protocol that it implies.
    fn protocol(self) -> Option<u8> {
        match self {
            About::Port(protocol) | About::SourcePort(protocol) => protocol,
            About::Icmp(ipv4) => Some(if ipv4 { 1 } else { 58 }),
            _ => None,
        }
    }
}

/// The values of a condition, and the rest: one word, several of a state, or a set in braces.
fn values<'w, 'a>(words: &'w [&'a str], state: bool) -> Option<(Vec<&'a str>, &'w [&'a str])> {
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
            (count > 0).then(|| (words[..count].to_vec(), &words[count..]))
        }
        [one, rest @ ..] => Some((vec![one], rest)),
        [] => None,
    }
}

/// Reads the rest of a rule, of which something is read already. A map of verdicts makes several of one.
fn rule(mut words: &[&str], mut begun: Rule, known: &mut NetworkSets, into: &mut Vec<Rule>) {
    loop {
        if let Some((about, rest)) = About::at(words) {
            if let ["vmap", rest @ ..] = rest {
                return verdicts(about, rest, &begun, known, into);
            }
            let (not, rest) = match rest {
                ["!=" | "not", rest @ ..] => (true, rest),
                ["==" | "eq", rest @ ..] => (false, rest),
                _ => (false, rest),
            };
            if let Some((values, rest)) = values(rest, matches!(about, About::State)) {
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
fn verdicts(about: About, words: &[&str], begun: &Rule, known: &mut NetworkSets, into: &mut Vec<Rule>) {
    let Some((entries, _)) = values(words, false) else {
        return into.push(Rule { action: Action::Other, ..begun.clone() });
    };
    let mut keys = entries.iter().enumerate().filter(|(_, word)| **word == ":").map(|(at, _)| at).peekable();
    if keys.peek().is_none() {
        return into.push(Rule { action: Action::Other, ..begun.clone() });
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
