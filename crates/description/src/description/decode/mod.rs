//! From TOML to a description: first the shape of everything against the language table, then the
//! values. Several findings in one pass; a part that cannot be understood is left out.

mod everything;
mod group;
mod inventory;
mod offer;
mod shape;
mod site;
mod tunnel;

use crate::description::language::{DOCUMENT, VERSION};
use crate::description::worked_out::WorkedOut;
use crate::description::{Description, Site};
use everything::everything;
use inventory::Inventory;
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};
use uspan_dialects::context::Context;
use uspan_model::algorithm::Row;
use uspan_model::finding::{self as rules, Finding, Rule, any_stops, in_reading_order};
use uspan_model::source::{Located, Source, Span};

pub(super) type Node<'a> = Spanned<DeValue<'a>>;

/// Decodes a description; `read` gives the files that it names as inventories, or says why there is none.
pub(super) fn decode(
    source: &Source,
    context: &Context,
    read: &mut dyn FnMut(&str) -> Result<String, String>,
) -> (Description, Vec<Finding>) {
    let (root, errors) = DeTable::parse_recoverable(source.text());
    let (inventories, texts) = match errors.is_empty() {
        true => inventory::files(root.get_ref(), read),
        false => (Vec::new(), Vec::new()),
    };
    let source = source.clone().followed_by(texts);
    let mut decoder = Decoder::new(&source, context);
    decoder.syntax(&errors);
    let mut description = Description {
        source: source.clone(),
        sites: Vec::new(),
        tunnels: Vec::new(),
        carried: WorkedOut::default(),
        crowded: WorkedOut::default(),
        siblings: WorkedOut::default(),
    };
    // After a syntax error the rest of the tree is guesswork: do not pile findings on it.
    if !any_stops(&decoder.findings) {
        decoder.document(root.get_ref(), &inventories, &mut description);
    }
    in_reading_order(&mut decoder.findings);
    (description, decoder.findings)
}

pub(super) struct Decoder<'a> {
    source: &'a Source,
    /// What its sites can name.
    context: &'a Context,
    findings: Vec<Finding>,
    /// Algorithms of proposals, as they are found.
    picked: Vec<Located<&'static Row>>,
    /// Whom the sites of inventories are joined with.
    peers: HashMap<String, Vec<Located<String>>>,
}

/// Entries of a table in the order of the file.
pub(super) fn in_file_order<'t, 'i>(table: &'t DeTable<'i>) -> Vec<(&'t Spanned<Cow<'i, str>>, &'t Node<'i>)> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
}

pub(super) fn text<'t>(node: &'t Node<'_>) -> Option<Located<&'t str>> {
    match node.get_ref() {
        DeValue::String(text) => Some(Located::new(text.as_ref(), node.span())),
        _ => None,
    }
}

pub(super) fn table<'t, 'i>(node: &'t Node<'i>) -> Option<&'t DeTable<'i>> {
    match node.get_ref() {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

pub(super) fn list<'t, 'i>(node: &'t Node<'i>) -> &'t [Node<'i>] {
    match node.get_ref() {
        DeValue::Array(items) => items,
        _ => &[],
    }
}

pub(super) fn number(node: &Node<'_>) -> Option<i64> {
    match node.get_ref() {
        DeValue::Integer(found) => i64::from_str_radix(found.as_str(), found.radix()).ok(),
        _ => None,
    }
}

pub(super) fn flag(node: &Node<'_>) -> Option<bool> {
    match node.get_ref() {
        DeValue::Boolean(value) => Some(*value),
        _ => None,
    }
}

pub(super) fn kind_words(node: &Node<'_>) -> &'static str {
    match node.get_ref() {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "`true` or `false`",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

impl<'a> Decoder<'a> {
    pub(super) fn new(source: &'a Source, context: &'a Context) -> Self {
        Decoder { source, context, findings: Vec::new(), picked: Vec::new(), peers: HashMap::new() }
    }

    pub(super) fn say(&mut self, rule: &'static Rule, span: impl Into<Span>, message: impl Into<String>) -> &mut Finding {
        let place = self.source.place(span.into());
        self.findings.push(Finding::new(rule, message).at(place));
        self.findings.last_mut().expect("just pushed")
    }

    pub(super) fn syntax(&mut self, errors: &[toml::de::Error]) {
        let mut last_line = 0;
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            // The parser recovers token by token; one finding a line is enough.
            let line = self.source.position(span.start).line;
            if line == last_line {
                continue;
            }
            last_line = line;
            let rule = if error.message().contains("duplicate") { &rules::SAID_TWICE } else { &rules::SYNTAX };
            let message = match rule.code == rules::SAID_TWICE.code {
                true => "this is written twice".to_owned(),
                false => format!("this is not well-formed TOML: {}", error.message().trim()),
            };
            self.say(rule, span, message);
        }
    }

    fn document(&mut self, root: &DeTable<'_>, inventories: &[Inventory<'_, '_>], description: &mut Description) {
        let mistyped = self.check_table(root, DOCUMENT, Span::default(), format_args!("the description"));
        let lacks = |other: &'static str, one: &'static str| {
            [one, other].iter().all(|key| !root.contains_key(*key) && !mistyped.contains(key)).then_some(one)
        };
        for lacking in lacks("group", "tunnel").into_iter().chain(lacks("inventory", "site")) {
            let (rule, remedy) = match lacking == "tunnel" || root.is_empty() {
                true => (&rules::NOTHING_TO_BUILD, rules::NOTHING_TO_BUILD.remedy.to_owned()),
                false => {
                    (&rules::MISSING_KEY, "Describe two places, `[site.NAME]`, or name a file with them, `[inventory.NAME]`.".to_owned())
                }
            };
            self.say(rule, Span::default(), format!("the description lacks `{lacking}`")).remedy = remedy;
        }
        if let Some(node) = root.get("unified-span")
            && let DeValue::Integer(number) = node.get_ref()
            && i64::from_str_radix(number.as_str(), number.radix()) != Ok(VERSION)
        {
            self.say(&rules::UNKNOWN_VERSION, node.span(), format!("version {} of the language is not known", number.as_str()));
        }
        for (name, node) in root.get("site").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(fields) = table(node)
                && let Some(site) = self.site(Located::new(name.get_ref().to_string(), name.span()), fields)
            {
                description.sites.push(site);
            }
        }
        // A site that has errors of its own is known by name, so that tunnels do not call it unknown.
        let all = root.get("site").and_then(table).map(|t| t.keys().map(|k| k.get_ref().to_string()).collect()).unwrap_or_default();
        let mut sites = SiteIndex { known: HashMap::new(), all, inventories: BTreeMap::new() };
        for inventory in inventories {
            let first = description.sites.len();
            self.inventory(inventory, &mut description.sites);
            sites.all.insert(inventory.name.value.clone());
            sites.inventories.insert(inventory.name.value.clone(), first..description.sites.len());
        }
        self.index(&mut sites, inventories, &description.sites);
        for (name, node) in root.get("tunnel").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(fields) = table(node) {
                everything(fields, &sites, &mut description.sites);
                let name = Located::new(name.get_ref().to_string(), name.span());
                if let Some(tunnel) = self.tunnel(name, fields, &sites, &description.sites) {
                    description.tunnels.push(tunnel);
                }
            }
        }
        for (name, node) in root.get("group").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(fields) = table(node) {
                let name = Located::new(name.get_ref().to_string(), name.span());
                self.group(&name, fields, &sites, description);
            }
        }
    }

    /// Which site has which name; each name is there once.
    fn index(&mut self, index: &mut SiteIndex, inventories: &[Inventory<'_, '_>], sites: &[Site]) {
        index.known.reserve(sites.len());
        for (number, site) in sites.iter().enumerate() {
            let name = &site.name;
            let other = index.known.get(&name.value).map(|other| sites[*other].name.span);
            let inventory = || inventories.iter().find(|inventory| inventory.name.value == name.value).map(|inventory| inventory.name.span);
            if let Some(other) = other.or_else(inventory) {
                let place = self.source.place(other);
                self.say(&rules::SITE_TWICE, name.span, format!("`{}` is there already", name.value))
                    .related
                    .push((place, "here".to_owned()));
                continue;
            }
            index.known.insert(name.value.clone(), number);
        }
    }
}

pub(super) struct SiteIndex {
    pub(super) known: HashMap<String, usize>,
    /// Names of sites that stand in the description itself, understood or not, and of inventories.
    pub(super) all: BTreeSet<String>,
    /// The sites of each inventory.
    pub(super) inventories: BTreeMap<String, Range<usize>>,
}

impl SiteIndex {
    /// All names that something has, in their order: those of the description, and those of inventories.
    pub(super) fn names(&self) -> Vec<&str> {
        let mut others: Vec<_> = self.known.keys().filter(|name| !self.all.contains(*name)).map(String::as_str).collect();
        others.sort_unstable();
        self.all.iter().map(String::as_str).chain(others).collect()
    }

    /// Whether something has this name.
    pub(super) fn is_named(&self, name: &str) -> bool {
        self.all.contains(name) || self.known.contains_key(name)
    }
}

/// Text of the user's as it may stand in a message.
pub(super) use uspan_model::source::shown as printable;
