//! From a line of a configuration to the line of the description that it follows from, and back.
//!
//! The remarks that are written into configurations name keys, not lines; here they are looked up.

use std::collections::BTreeMap;

use toml::de::{DeTable, DeValue};

use crate::gateway::Tree;
use crate::source::{Source, Span};

/// Lines of a gateway's files that follow from lines of a description; both are counted from 1.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Origins {
    /// For each file, by its line, the lines of the description.
    pub files: BTreeMap<String, BTreeMap<usize, Vec<usize>>>,
}

impl Origins {
    /// The lines of files that follow from a line of the description, in order.
    pub fn following(&self, line: usize) -> Vec<(&str, usize)> {
        let mut found = Vec::new();
        for (file, lines) in &self.files {
            found.extend(lines.iter().filter(|(_, from)| from.contains(&line)).map(|(at, _)| (file.as_str(), *at)));
        }
        found
    }
}

/// What the remarks in a gateway's files say.
pub fn origins(description: &Source, tree: &Tree) -> Origins {
    let keys = KeyPaths::of(description);
    let mut origins = Origins::default();
    // What stands in a file with a secret is shown to nobody.
    for (path, file) in tree.files.iter().filter(|(_, file)| !file.private) {
        let lines = of_file(&file.text, &keys);
        if !lines.is_empty() {
            origins.files.insert(path.clone(), lines);
        }
    }
    origins
}

fn of_file(text: &str, keys: &KeyPaths<'_>) -> BTreeMap<usize, Vec<usize>> {
    let mut found = BTreeMap::new();
    let mut current: Vec<usize> = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let trimmed = line.trim();
        if let Some(remark) = trimmed.strip_prefix('#') {
            current = named(remark).filter_map(|key| keys.line(key)).collect();
            current.sort_unstable();
            current.dedup();
        } else if trimmed.is_empty() || trimmed == "}" {
            current.clear();
        } else if !current.is_empty() {
            found.insert(number + 1, current.clone());
        }
    }
    found
}

/// The keys that a remark names.
fn named(remark: &str) -> impl Iterator<Item = &str> {
    remark.split([' ', ',', ':']).filter(|word| {
        let mut parts = word.split('.');
        matches!(parts.next(), Some("group" | "site" | "tunnel")) && parts.clone().count() >= 1 && parts.all(|part| !part.is_empty())
    })
}

/// Where the keys of a description stand.
struct KeyPaths<'a> {
    source: &'a Source,
    root: Option<DeTable<'a>>,
}

impl<'a> KeyPaths<'a> {
    fn of(source: &'a Source) -> KeyPaths<'a> {
        KeyPaths { source, root: DeTable::parse(source.text()).ok().map(toml::Spanned::into_inner) }
    }

    /// The line of a key; where it is not written, that of the table that it would stand in.
    fn line(&self, key: &str) -> Option<usize> {
        let mut table = self.root.as_ref()?;
        let mut at = None;
        for part in key.split('.') {
            let Some((name, value)) = table.iter().find(|(name, _)| name.get_ref() == part) else { break };
            let span = name.span();
            at = Some(Span { start: span.start, end: span.end });
            match value.get_ref() {
                DeValue::Table(inner) => table = inner,
                _ => break,
            }
        }
        at.map(|span| self.source.position(span.start).line)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gateway::TreeFile;

    #[test]
    fn remarks_lead_to_the_lines_of_their_keys_and_back() {
        let description = "unified-span = 1\n\n[site.packhouse]\nnetworks = { office = \"10.41.0.0/22\" }\n\n[tunnel.harvest]\nbetween = [\"a\", \"b\"]\npfs = false\n";
        let text = "# tunnel.harvest.pfs, tunnel.harvest.strength\nesp = x\n\nother = 1\n# site.packhouse.networks.office: all of it\nnet = y\nmore = z\n# nothing.of.that\nlast = 1\n";
        let mut tree = Tree::default();
        tree.add("etc/a", TreeFile::public(text.to_owned()));
        let origins = origins(&Source::new("d", description), &tree);
        // The strength is not written: its table stands for it.
        assert_eq!(origins.files["etc/a"], BTreeMap::from([(2, vec![6, 8]), (6, vec![4]), (7, vec![4])]));
        assert_eq!(origins.following(4), [("etc/a", 6), ("etc/a", 7)]);
        assert!(origins.following(3).is_empty());
    }
}
