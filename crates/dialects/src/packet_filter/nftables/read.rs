//! Reads rulesets: files as people write them, and listings of what is loaded (`nft list ruleset`).

use std::collections::{BTreeMap, BTreeSet};

use super::rule::{NetworkSets, rule};
use super::syntax::{NftStatement, parse};
use super::{FILES, FOLDER, LISTING};
use crate::packet_filter::FoundRules;
use crate::packet_filter::ownership::{self, Chains};
use crate::text::{Opened, included};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Action, Base, ChainRule, Hook, ReadAt, Task, Tree};
use uspan_model::source::{Source, Span};

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

    fn unknown(&mut self, source: &Source, statement: &NftStatement<'_>) {
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

    fn statements(&mut self, source: &Source, statements: &[NftStatement<'_>], within: Option<NftTable<'_>>) {
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

    fn chain(&mut self, source: &Source, chain: &NftStatement<'_>, table: NftTable<'_>, name: &str) {
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
    fn set(&mut self, block: &[NftStatement<'_>], table: NftTable<'_>, name: &str) {
        let changes = |statement: &NftStatement<'_>| match statement.words.as_slice() {
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
        let begun = ChainRule { tests: Vec::with_capacity(6), logs: false, action: Action::Next, place };
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
