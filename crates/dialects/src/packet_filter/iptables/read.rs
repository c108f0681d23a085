//! Reads files in the format of iptables-restore(8), as people write them and as iptables-save(8) prints what is loaded.

use super::{FAMILIES, FOLDER, IpFamily};
use crate::dialect::IPTABLES;
use crate::packet_filter::ownership::{self, Chains};
use crate::packet_filter::{FoundRules, values};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Action, Base, Chain, ChainRule, Hook, NatTarget, ReadAt, State, Task, Test, Tree, What};
use uspan_model::source::Source;

pub(super) fn read(tree: &Tree) -> FoundRules {
    let mut found = FoundLine::default();
    for family in &FAMILIES {
        if let Some(file) = tree.files.get(family.listing) {
            // What is loaded is what counts, whatever the files would load.
            found.file(&Source::new(family.listing, file.text.as_str()), family);
            continue;
        }
        for ending in [family.rules, family.jumps] {
            for (path, file) in tree.in_folder(FOLDER, &format!(".{ending}")) {
                found.file(&Source::new(path, file.text.as_str()), family);
            }
        }
    }
    ownership::iptables(tree, found.chains.all, found.findings)
}

#[derive(Default)]
struct FoundLine {
    chains: Chains,
    findings: Vec<Finding>,
}

/// Where the kernel asks a built-in chain, what for, and in which order.
fn built_in(table: &str, chain: &str) -> Option<(Hook, Task, i32)> {
    let hook = match chain {
        "PREROUTING" => Hook::Arrival,
        "INPUT" => Hook::Input,
        "FORWARD" => Hook::Forward,
        "OUTPUT" => Hook::Output,
        "POSTROUTING" => Hook::Departure,
        _ => return None,
    };
    let (task, order) = match table {
        "raw" => (Task::Pass, -300),
        "mangle" => (Task::Pass, -150),
        "nat" if hook == Hook::Arrival => (Task::Translate, -100),
        "nat" => (Task::Translate, 100),
        "filter" => (Task::Pass, 0),
        "security" => (Task::Pass, 50),
        _ => return None,
    };
    Some((hook, task, order))
}

impl FoundLine {
    fn file(&mut self, source: &Source, family: &IpFamily) {
        let mut table = "";
        self.findings.extend(IPTABLES.in_pieces(source));
        for (line, span) in IPTABLES.statements(source) {
            let words = words(line);
            let place = ReadAt(Some(source.place(span)));
            let known = match words.as_slice() {
                [] | ["COMMIT"] => true,
                [first, ..] if first.starts_with('#') => true,
                [name] if name.starts_with('*') => {
                    table = &name[1..];
                    true
                }
                [name, policy, ..] if name.starts_with(':') => {
                    let chain = self.chain_of(table, &name[1..], family);
                    if let Some(base) = &mut chain.base {
                        base.drops = *policy == "DROP";
                        base.place = place;
                    }
                    true
                }
                // With the counters that a listing can have.
                [counters, verb @ ("-A" | "--append"), chain, rest @ ..] if counters.starts_with('[') => {
                    self.rule(table, chain, rest, family, place, verb)
                }
                [verb @ ("-A" | "--append" | "-I" | "--insert"), chain, rest @ ..] => self.rule(table, chain, rest, family, place, verb),
                _ => false,
            };
            if !known {
                let message = format!("`{line}` is not understood");
                self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(span)));
            }
        }
    }

    fn chain_of(&mut self, table: &str, name: &str, family: &IpFamily) -> &mut Chain {
        let at = self.chains.named(table, name, [family.ipv4, !family.ipv4]);
        let chain = &mut self.chains.all[at];
        if chain.base.is_none() {
            let base = |(hook, task, order)| Base { hook, task, order, drops: false, place: ReadAt::default() };
            chain.base = built_in(table, name).map(base);
        }
        chain
    }

    fn rule(&mut self, table: &str, chain: &str, words: &[&str], family: &IpFamily, place: ReadAt, verb: &str) -> bool {
        if table.is_empty() {
            return false;
        }
        let rule = parse(words, place);
        let rules = &mut self.chain_of(table, chain, family).rules;
        let at = if verb.starts_with("-I") || verb == "--insert" { 0 } else { rules.len() };
        rules.insert(at, rule);
        true
    }
}

/// The words of a line; what stands in quotes is one, with its quotes.
fn words(line: &str) -> Vec<&str> {
    let mut words = Vec::new();
    let mut rest = line.trim_start();
    while let Some(first) = rest.chars().next() {
        let end = match first {
            '"' => rest[1..].find('"').map_or(rest.len(), |end| end + 2),
            _ => rest.find(char::is_whitespace).unwrap_or(rest.len()),
        };
        words.push(&rest[..end]);
        rest = rest[end..].trim_start();
    }
    words
}

/// Options without a value.
const FLAGS: &[&str] = &[
    "--strict",
    "--next",
    "-f",
    "--fragment",
    "--random",
    "--random-fully",
    "--persistent",
    "--clamp-mss-to-pmtu",
    "--log-uid",
    "--log-ip-options",
    "--log-tcp-options",
    "--log-tcp-sequence",
    "--log-macdecode",
];

// Long: an arm for each option.
/// Reads a rule, after its chain. Total: what is not understood becomes a condition of which nobody knows whether it holds.
fn parse(mut words: &[&str], place: ReadAt) -> ChainRule {
    let mut rule = ChainRule { tests: Vec::new(), logs: false, action: Action::Next, place };
    let mut target = None;
    // What is said of SAs comes in two options, in whatever order.
    let (mut direction, mut protected) = (None, None);
    let mut rate = None;
    while let [option, rest @ ..] = words {
        let (not, option, rest) = match (*option, rest) {
            ("!", [option, rest @ ..]) => (true, *option, rest),
            (option, rest) => (false, option, rest),
        };
        if FLAGS.contains(&option) {
            words = rest;
            continue;
        }
        // An old spelling has the negation behind the option.
        let (not, rest) = match rest {
            ["!", value, ..] if !value.starts_with('-') => (true, &rest[1..]),
            _ => (not, rest),
        };
        let Some((value, more)) = rest.split_first().filter(|(value, _)| !value.starts_with('-') && **value != "!") else {
            // TCP segments that open a connection (RFC 9293); of other options without a value nobody knows.
            let what = if option == "--syn" { What::State(vec![State::New]) } else { What::Other };
            rule.tests.push(Test { not, what });
            words = rest;
            continue;
        };
        words = more;
        let value = value.trim_matches('"');
        let list = || value.split(',');
        let nets = || {
            let mut nets = Vec::new();
            list().try_for_each(|one| values::nets(one, &mut nets)).map(|()| nets.into())
        };
        let ports = || list().map(|one| values::ports(one, ':')).collect::<Option<Vec<_>>>();
        let name = || vec![value.strip_suffix('+').map_or_else(|| value.to_owned(), |start| format!("{start}*"))];
        let what = match option {
            "-s" | "--source" | "--src" | "--src-range" => nets().map(What::Source),
            "-d" | "--destination" | "--dst" | "--dst-range" => nets().map(What::Destination),
            "-i" | "--in-interface" => Some(What::OutOf(name())),
            "-o" | "--out-interface" => Some(What::Into(name())),
            "-p" | "--protocol" | "--proto" if value == "all" => continue,
            "-p" | "--protocol" | "--proto" => values::protocol(value).map(|number| What::Protocol(vec![number])),
            "--dport" | "--dports" | "--destination-port" | "--destination-ports" => ports().map(What::Port),
            "--sport" | "--sports" | "--source-port" | "--source-ports" => ports().map(What::SourcePort),
            "--ctstate" | "--state" => list().map(values::state).collect::<Option<Vec<_>>>().map(What::State),
            "--icmp-type" => values::icmp(value, true).map(|number| What::Icmp(vec![number])),
            "--icmpv6-type" => values::icmp(value, false).map(|number| What::Icmp(vec![number])),
            "--dir" => {
                direction = Some(value);
                continue;
            }
            "--pol" => {
                protected = Some((value == "ipsec") != not);
                continue;
            }
            "--limit" => {
                rate = Some(value.strip_suffix("/second").or_else(|| value.strip_suffix("/sec")).and_then(|number| number.parse().ok()));
                continue;
            }
            "-m" | "--match" | "--comment" | "--limit-burst" | "--mode" | "--proto-type" => continue,
            "--log-prefix" | "--log-level" | "--nflog-group" | "--nflog-prefix" | "--reject-with" | "--to-ports" => continue,
            // Only in a rule for segments, which all have it.
            "--tcp-flags" if value == "SYN,RST" && more.first() == Some(&"SYN") => {
                words = &more[1..];
                continue;
            }
            "-j" | "--jump" => {
                target = Some((value, false));
                continue;
            }
            "-g" | "--goto" => {
                target = Some((value, true));
                continue;
            }
            "--to-source" | "--set-mss" | "--to" | "--to-destination" => {
                rule.action = match (option, target) {
                    ("--to-source", Some(("SNAT", _))) => value.parse().ok().map(|address| Action::Translate(NatTarget::SourceTo(address))),
                    ("--set-mss", Some(("TCPMSS", _))) => value.parse().ok().map(Action::Segments),
                    // Which end it is about is the chain's.
                    ("--to", Some(("NETMAP", _))) => values::net(value).map(|net| Action::Translate(NatTarget::SourceNet(net))),
                    _ => None,
                }
                .unwrap_or(Action::Other);
                target = None;
                continue;
            }
            _ => {
                // Up to the next option.
                let values = more.iter().take_while(|word| !word.starts_with('-') && **word != "!").count();
                words = &more[values..];
                None
            }
        };
        rule.tests.push(Test { not, what: what.unwrap_or(What::Other) });
    }
    finish(&mut rule, (direction, protected), rate, target);
    rule
}

/// What is said in several options, and what becomes of a packet.
fn finish(rule: &mut ChainRule, protection: (Option<&str>, Option<bool>), rate: Option<Option<u32>>, target: Option<(&str, bool)>) {
    match protection {
        (None, None) => {}
        (Some("out"), Some(protected)) => rule.tests.push(Test { not: !protected, what: What::Leaving }),
        (Some("in"), Some(protected)) => rule.tests.push(Test { not: !protected, what: What::Arrived }),
        _ => rule.tests.push(Test { not: false, what: What::Other }),
    }
    if let Some(a_second) = rate {
        rule.tests.push(Test { not: false, what: What::Rate { over: false, a_second } });
    }
    if let Some((target, goes)) = target {
        rule.action = match target {
            "ACCEPT" => Action::Accept,
            "DROP" | "REJECT" => Action::Drop,
            "RETURN" => Action::Return,
            "MASQUERADE" => Action::Masquerade,
            "LOG" | "NFLOG" => {
                rule.logs = true;
                Action::Next
            }
            "TCPMSS" | "MARK" | "CONNMARK" | "CT" | "NOTRACK" | "TRACE" | "CLASSIFY" | "DSCP" | "TOS" | "TTL" | "HL" | "CHECKSUM" => {
                Action::Next
            }
            "SNAT" | "DNAT" | "NETMAP" | "REDIRECT" | "QUEUE" | "NFQUEUE" | "TPROXY" | "SET" => Action::Other,
            chain if goes => Action::Goto(chain.to_owned()),
            chain => Action::Jump(chain.to_owned()),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use uspan_model::gateway::TreeFile;

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

    #[test]
    fn options_without_a_value_take_none() {
        let of = |text: &str| parse(&words(text), ReadAt::default());
        let opening = of("-p tcp --syn -j ACCEPT");
        assert_eq!((opening.tests.len(), &opening.action), (2, &Action::Accept));
        assert_eq!(opening.tests[1], Test { not: false, what: What::State(vec![State::New]) });
        let negated = of("-p tcp ! --syn -m state --state NEW -j DROP");
        assert_eq!((negated.tests[1].not, negated.tests.len(), &negated.action), (true, 3, &Action::Drop));
        // Of others nobody knows, and the rest of the rule is there all the same.
        let unknown = of("-m socket --transparent -s 10.1.0.0/16 -j DROP");
        assert_eq!((&unknown.tests[0].what, unknown.tests.len(), &unknown.action), (&What::Other, 2, &Action::Drop));
        assert!(!unknown.is_clear());
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[-*:ACIsdjpm natfilter./0-9\n#é]{0,200}") {
            let _ = read(&tree(&text, &text));
        }
    }
}
