//! Statements that the hub has no field for.

use crate::source::Place;

/// What a statement without a field bears on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Bearing {
    /// The daemon does not take the connection as long as it stands there.
    Refused,
    /// What it does is not known: it may be anything.
    Unknown,
    /// Who believes whom.
    Authentication,
    /// What a Child SA carries, and how it is protected.
    ChildSa,
    /// Nothing that decides whether the tunnel comes up, what it carries, and how that is protected.
    Aside,
}

/// A statement that the hub has no field for, or whose value is not understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unmodelled {
    /// Its keyword; empty where that is not known, so that it may be anything.
    pub keyword: String,
    /// Where it stands.
    pub place: Place,
    /// What it bears on.
    pub bearing: Bearing,
}

impl Unmodelled {
    /// What it is, in words.
    pub fn words(&self) -> String {
        if self.keyword.is_empty() { "a statement that is not known".to_owned() } else { format!("`{}`", self.keyword) }
    }
}

/// All of a connection. Any two are the same: what has no field is no value of the hub.
#[derive(Clone, Debug, Default)]
pub struct Remainder(pub Vec<Unmodelled>);

impl PartialEq for Remainder {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Remainder {}

impl Remainder {
    /// Adds one, unless it is there.
    pub fn add(&mut self, keyword: &str, place: &Place, bearing: Bearing) {
        let one = Unmodelled { keyword: keyword.to_owned(), place: place.clone(), bearing };
        if !self.0.contains(&one) {
            self.0.push(one);
        }
    }

    /// Whether something of it bears on this.
    pub fn leaves_open(&self, bearing: Bearing) -> bool {
        self.0.iter().any(|one| one.bearing == bearing)
    }

    /// Adds all of another one.
    pub fn take(&mut self, other: Remainder) {
        for one in other.0 {
            if !self.0.contains(&one) {
                self.0.push(one);
            }
        }
    }

    /// The first that bears on this.
    pub fn bearing(&self, on: Bearing) -> Option<&Unmodelled> {
        self.0.iter().find(|one| one.bearing == on)
    }
}
