//! From a line of a configuration to the line of the description that it follows from, and back.
//!
//! Writers note with each file from where in it which keys of the description are followed; here the keys are looked up.

use std::collections::BTreeMap;

use toml::de::{DeTable, DeValue};

use crate::gateway::{Tree, TreeFile};
use crate::source::{Source, Span};

/// Keys of a description that lines of a file follow from, as remarks name them: with `, ` between them, or `: ` behind the one that
/// names the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FollowedKeys(String);

impl FollowedKeys {
    /// None.
    pub const NONE: &FollowedKeys = &FollowedKeys(String::new());

    /// In words.
    pub fn text(&self) -> &str {
        &self.0
    }

    /// Each of them.
    pub fn each(&self) -> impl Iterator<Item = &str> {
        self.0.split(", ").flat_map(|keys| keys.split(": ")).filter(|key| !key.is_empty())
    }
}

impl From<String> for FollowedKeys {
    fn from(text: String) -> FollowedKeys {
        FollowedKeys(text)
    }
}

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

/// Which lines of a gateway's files follow from which of the description, as the writers noted it.
pub fn origins(description: &Source, tree: &Tree) -> Origins {
    let keys = KeyPaths::of(description);
    let mut origins = Origins::default();
    // What stands in a file with a secret is shown to nobody.
    for (path, file) in tree.files.iter().filter(|(_, file)| !file.private) {
        let lines = of_file(file, &keys);
        if !lines.is_empty() {
            origins.files.insert(path.clone(), lines);
        }
    }
    origins
}

fn of_file(file: &TreeFile, keys: &KeyPaths<'_>) -> BTreeMap<usize, Vec<usize>> {
    let mut found = BTreeMap::new();
    let mut noted = file.provenance.iter().peekable();
    // What is followed, and whether a line did already.
    let (mut current, mut begun): (Vec<usize>, bool) = (Vec::new(), true);
    let mut at = 0;
    for (number, line) in file.text.split_inclusive('\n').enumerate() {
        while let Some((_, followed)) = noted.next_if(|(from, _)| *from <= at) {
            if std::mem::take(&mut begun) {
                current.clear();
            }
            current.extend(followed.each().filter_map(|key| keys.line(key)));
            current.sort_unstable();
            current.dedup();
        }
        at += line.len();
        match line.trim() {
            remark if remark.starts_with(['#', '!']) => {}
            // What was followed ends with its section.
            "" | "}" => current.clear(),
            _ => {
                begun = true;
                if !current.is_empty() {
                    found.insert(number + 1, current.clone());
                }
            }
        }
    }
    found
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

    #[test]
    fn lines_lead_to_the_lines_of_their_keys_and_back() {
        let description = "unified-span = 1\n\n[site.packhouse]\nnetworks = { office = \"10.41.0.0/22\" }\n\n[tunnel.harvest]\nbetween = [\"a\", \"b\"]\npfs = false\n";
        let parts = [
            ("# tunnel.harvest.strength\n", ["tunnel.harvest.pfs", "tunnel.harvest.strength"].join(", ")),
            ("esp = x\n\nother = 1\n", "tunnel.harvest.carries: site.packhouse.networks.office".to_owned()),
            ("net = y\nmore = z\n", "nothing.of.that".to_owned()),
        ];
        let mut file = TreeFile::public(String::new());
        for (text, keys) in parts {
            file.text.push_str(text);
            file.provenance.push((file.text.len(), FollowedKeys::from(keys)));
        }
        file.text.push_str("last = 1\n");
        let mut tree = Tree::default();
        tree.add("etc/a", file);
        let origins = origins(&Source::new("d", description), &tree);
        // What is not written has its table for it; a remark says nothing by itself.
        assert_eq!(origins.files["etc/a"], BTreeMap::from([(2, vec![6, 8]), (5, vec![4, 6]), (6, vec![4, 6])]));
        assert_eq!(origins.following(4), [("etc/a", 5), ("etc/a", 6)]);
        assert!(origins.following(3).is_empty());
    }
}
