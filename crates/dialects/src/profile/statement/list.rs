//! The statements of a platform, found by their keywords.

use std::ops::Deref;

use super::{Section, Statement};

/// Statements in the order in which they are written. There are many, and each line of each file is looked up among them.
#[derive(Clone, Debug)]
pub struct Statements {
    rows: Vec<Statement>,
    /// Their places by keyword; of one keyword in the order in which they are written.
    by_keyword: Vec<usize>,
}

impl Statements {
    /// No statements.
    pub(crate) const NONE: Statements = Statements { rows: Vec::new(), by_keyword: Vec::new() };

    /// Changes them: those of another release.
    pub fn change(&mut self, change: impl FnOnce(&mut Vec<Statement>)) {
        change(&mut self.rows);
        let rows = &self.rows;
        self.by_keyword = (0..rows.len()).collect();
        self.by_keyword.sort_by(|one, other| rows[*one].keyword.cmp(&rows[*other].keyword));
    }

    /// The places of the rows of sections that are for a keyword.
    pub(crate) fn places<'a>(&'a self, sections: &'a [Section], keyword: &'a str) -> impl Iterator<Item = usize> + 'a {
        let start = self.by_keyword.partition_point(|at| &*self.rows[*at].keyword < keyword);
        let all = self.by_keyword[start..].iter().copied().take_while(move |at| self.rows[*at].keyword == keyword);
        all.filter(move |at| sections.contains(&self.rows[*at].section))
    }

    /// The first row of sections that is for a keyword.
    pub(crate) fn find(&self, sections: &[Section], keyword: &str) -> Option<&Statement> {
        self.places(sections, keyword).next().map(|at| &self.rows[at])
    }
}

impl From<Vec<Statement>> for Statements {
    fn from(rows: Vec<Statement>) -> Statements {
        let mut all = Statements::NONE;
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
