//! The statements of a platform, found by their keywords.

use std::ops::Deref;
use std::sync::OnceLock;

use super::{Default, Section, Statement, Value, Writes};
use crate::profile::Profile;
use crate::text::beginning;

/// Statements in the order in which they are written. There are many, and each line of each file is looked up among them.
#[derive(Clone, Debug)]
pub struct Statements {
    rows: Vec<Statement>,
    /// Their places by how their keywords begin; of one keyword in the order in which they are written.
    by_keyword: Vec<(u64, usize)>,
    /// The places of those that are written.
    written: Vec<(Section, usize)>,
    spelled: SpelledDefaults,
}

/// What holds without each statement, where a text says it; worked out once. A copy is of a profile that may spell it in another way.
#[derive(Debug, std::default::Default)]
struct SpelledDefaults(OnceLock<Vec<(usize, Option<Value>)>>);

impl Clone for SpelledDefaults {
    fn clone(&self) -> SpelledDefaults {
        SpelledDefaults::default()
    }
}

impl Statements {
    /// No statements.
    #[expect(clippy::declare_interior_mutable_const, reason = "what is built on it has a cache of its own")]
    pub(crate) const EMPTY: Statements =
        Statements { rows: Vec::new(), by_keyword: Vec::new(), written: Vec::new(), spelled: SpelledDefaults(OnceLock::new()) };

    /// Changes them: those of another release.
    pub fn change(&mut self, change: impl FnOnce(&mut Vec<Statement>)) {
        change(&mut self.rows);
        let rows = &self.rows;
        self.by_keyword = rows.iter().enumerate().map(|(at, row)| (beginning(&row.keyword), at)).collect();
        self.by_keyword.sort_by_key(|(first, at)| (*first, &rows[*at].keyword));
        let written = rows.iter().enumerate().filter(|(_, row)| row.writes != Writes::Never);
        self.written = written.map(|(at, row)| (row.section, at)).collect();
        self.spelled = SpelledDefaults::default();
    }

    /// The rows of a section that are written, in their order.
    pub(crate) fn written(&self, section: Section) -> impl Iterator<Item = &Statement> {
        self.written.iter().filter(move |(of, _)| *of == section).map(|(_, at)| &self.rows[*at])
    }

    /// The places of the rows of sections that are for a keyword.
    pub(crate) fn places<'a>(&'a self, sections: &'a [Section], keyword: &'a str) -> impl Iterator<Item = usize> + 'a {
        let wanted = beginning(keyword);
        let start = self.by_keyword.partition_point(|(first, _)| *first < wanted);
        let alike = self.by_keyword[start..].iter().take_while(move |(first, _)| *first == wanted).map(|(_, at)| *at);
        alike.filter(move |at| sections.contains(&self.rows[*at].section) && self.rows[*at].keyword == keyword)
    }

    /// The first row of sections that is for a keyword.
    pub(crate) fn find(&self, sections: &[Section], keyword: &str) -> Option<&Statement> {
        self.places(sections, keyword).next().map(|at| &self.rows[at])
    }

    /// The rows without which something holds, in their order, each with what a text says of that. `profile` is the one that they are of.
    pub(crate) fn with_default(&self, profile: &Profile) -> impl Iterator<Item = (&Statement, Option<&Value>)> {
        let spelled = self.spelled.0.get_or_init(|| {
            let said = self.rows.iter().enumerate().filter_map(|(at, row)| match (&row.default, row.field()) {
                (Default::Spelled(text), Some((_, codec))) => Some((at, codec.read(profile, text).value)),
                (Default::Derived(_), Some(_)) => Some((at, None)),
                _ => None,
            });
            said.collect()
        });
        spelled.iter().map(|(at, value)| (&self.rows[*at], value.as_ref()))
    }
}

impl From<Vec<Statement>> for Statements {
    fn from(rows: Vec<Statement>) -> Statements {
        let mut all = Statements::EMPTY;
        all.change(|all| *all = rows);
        all
    }
}

impl Deref for Statements {
    type Target = [Statement];

    fn deref(&self) -> &[Statement] {
        &self.rows
    }
}

impl<'a> IntoIterator for &'a Statements {
    type Item = &'a Statement;
    type IntoIter = std::slice::Iter<'a, Statement>;

    fn into_iter(self) -> Self::IntoIter {
        self.rows.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::profile::statement::{Codec, Field};

    fn row(section: Section, keyword: &'static str) -> Statement {
        Statement::new(section, keyword, Field::Version, Codec::Flag)
    }

    #[test]
    fn rows_are_found_by_what_they_are_called_now() {
        use Section::{Child, Connection};
        let mut all = Statements::from(vec![row(Connection, "b"), row(Child, "a"), row(Connection, "a"), row(Connection, "b")]);
        let places = |all: &Statements, sections: &[Section], keyword: &str| all.places(sections, keyword).collect::<Vec<_>>();
        assert_eq!(places(&all, &[Connection], "b"), [0, 3]);
        assert_eq!(places(&all, &[Connection, Child], "a"), [1, 2]);
        assert_eq!(places(&all, &[Child], "b"), []);
        all.change(|rows| rows.iter_mut().for_each(|row| row.keyword = format!("new-{}", row.keyword).into()));
        assert_eq!((places(&all, &[Connection], "b"), places(&all, &[Connection], "new-b")), (vec![], vec![0, 3]));
        assert!(all.find(&[Child], "new-a").is_some_and(|row| row.section == Child) && all.find(&[Child], "new-b").is_none());
    }
}
