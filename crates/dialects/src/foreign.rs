//! What stands in a tree beside what a build would write: statements that somebody else put there.

use std::collections::HashMap;

use crate::dialect::dialect;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Tree;
use uspan_model::source::{Source, Span, shown};

/// The statements of a tree that are not those of the build, as its real readers see them, each at its place; and what of the build
/// is not there any more.
///
/// A statement that stands elsewhere in its file is one of the build. A remark is no statement.
#[derive(Clone, Debug, Default)]
pub struct Foreign {
    /// Statements, and whole files, that the build does not have.
    pub more: Vec<Finding>,
    /// How many of the build's are missing.
    pub fewer: usize,
}

/// Holds a tree against what a build would write. What a message quotes may be shown: `covered` is the tree as it may be.
pub fn foreign(built: &Tree, standing: &Tree, covered: &Tree) -> Foreign {
    let mut found = Foreign::default();
    for (path, file) in &standing.files {
        let source = Source::new(path.as_str(), file.text.as_str());
        let Some(planned) = built.files.get(path) else {
            let message = format!("`{}` is a file that the build does not have", shown(path));
            found.more.push(Finding::new(&rules::FOREIGN_STATEMENT, message).at(source.place((0..0).into())));
            continue;
        };
        if planned.text == file.text {
            continue;
        }
        let kind = dialect(path);
        let statements = |source: &'_ Source| -> Vec<(String, Span)> {
            let each: Vec<_> = match kind {
                Some(kind) => kind.statements(source).map(|(line, span)| (line.to_owned(), span)).collect(),
                None => source.lines().map(|(line, span)| (line.to_owned(), span)).collect(),
            };
            let says = |line: &str| !line.is_empty() && !kind.is_some_and(|kind| line.starts_with(kind.comment));
            each.into_iter().filter(|(line, _)| says(line)).collect()
        };
        let mut expected: HashMap<String, usize> = HashMap::new();
        for (line, _) in statements(&Source::new(path.as_str(), planned.text.as_str())) {
            *expected.entry(line).or_default() += 1;
        }
        for (line, span) in statements(&source) {
            match expected.get_mut(&line) {
                Some(count) if *count > 0 => *count -= 1,
                _ => {
                    let seen = covered.files.get(path).and_then(|file| file.text.get(span.range())).unwrap_or_default().trim();
                    let message = match seen == line {
                        true => format!("`{}` is not the build's", beginning(&shown(&line))),
                        false => "a statement here is not the build's; it is not shown, because a secret may stand in it".to_owned(),
                    };
                    found.more.push(Finding::new(&rules::FOREIGN_STATEMENT, message).at(source.place(span)));
                }
            }
        }
        found.fewer += expected.values().sum::<usize>();
    }
    let gone = built.files.iter().filter(|(path, _)| !standing.files.contains_key(*path));
    found.fewer += gone.map(|(_, file)| file.text.lines().count()).sum::<usize>();
    found
}

/// As much of a statement as a message quotes: the line itself is shown below it.
const QUOTED: usize = 80;

fn beginning(text: &str) -> String {
    match text.char_indices().nth(QUOTED) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_the_build_s_is_named_at_its_place() {
        let path = "etc/network/interfaces.d/uspan-harvest";
        let built = Tree::of(path, "# a remark\nauto x\niface x inet manual\n\tup ip link set x up\n");
        let standing = Tree::of(path, "auto x\niface x inet manual\n\tpre-up sh -c evil\n# another\n");
        let found = foreign(&built, &standing, &standing);
        let told: Vec<_> =
            found.more.iter().map(|finding| (finding.message.as_str(), finding.place.as_ref().map(|place| place.span.start))).collect();
        assert_eq!((told, found.fewer), (vec![("`pre-up sh -c evil` is not the build's", Some(27))], 1));
        assert_eq!(foreign(&built, &built, &built).more.len(), 0);
        assert_eq!(foreign(&built, &Tree::of("etc/iked.conf", "include \"/x\"\n"), &built).more.len(), 1);
    }

    #[test]
    fn the_end_of_a_remark_that_its_reader_takes_for_a_line_is_a_statement() {
        let path = "etc/iptables/uspan-harvest.v4";
        let built = Tree::of(path, "# x\n*filter\nCOMMIT\n");
        let standing = Tree::of(path, &format!("# {}-I INPUT -j ACCEPT\n*filter\nCOMMIT\n", "x".repeat(10_237)));
        let found = foreign(&built, &standing, &standing);
        assert_eq!(found.more.len(), 1);
        assert_eq!(found.more[0].message, "`-I INPUT -j ACCEPT` is not the build's");
    }
}
