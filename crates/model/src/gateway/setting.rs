//! Values with the place that they were read from.

use crate::source::Place;

/// Where a setting came from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// It was planned, not read.
    Planned,
    /// It is written at this place.
    Stated(Place),
    /// The configuration leaves it out; this is the platform's default.
    Default,
    /// What is written at this place is not understood: what holds is not known, and the value only fills its room.
    Unknown(Place),
}

impl Origin {
    /// The place, where there is one.
    pub fn place(&self) -> Option<&Place> {
        match self {
            Origin::Stated(place) | Origin::Unknown(place) => Some(place),
            Origin::Planned | Origin::Default => None,
        }
    }
}

/// A value that a configuration can leave out, and where it came from. Compares by value alone.
#[derive(Clone, Debug)]
pub struct Setting<T> {
    /// The value in force.
    pub value: T,
    /// Where it came from.
    pub origin: Origin,
}

impl<T> Setting<T> {
    /// A value from a plan.
    pub fn planned(value: T) -> Self {
        Setting { value, origin: Origin::Planned }
    }

    /// A value read at a place.
    pub fn stated(value: T, place: Place) -> Self {
        Setting { value, origin: Origin::Stated(place) }
    }

    /// A platform's default.
    pub fn default_of(value: T) -> Self {
        Setting { value, origin: Origin::Default }
    }

    /// A value that stands in for one that is not understood.
    pub fn unknown(stand_in: T, place: Place) -> Self {
        Setting { value: stand_in, origin: Origin::Unknown(place) }
    }

    /// The place of what is not understood, where that is so.
    pub fn doubt(&self) -> Option<&Place> {
        if let Origin::Unknown(place) = &self.origin { Some(place) } else { None }
    }
}

impl<T> Setting<T> {
    /// Another value from the same place.
    pub fn map<U>(self, of: impl FnOnce(T) -> U) -> Setting<U> {
        Setting { value: of(self.value), origin: self.origin }
    }
}

impl<T: PartialEq> PartialEq for Setting<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

impl<T: Eq> Eq for Setting<T> {}

/// Where something was read that is a part of another value. Any two are the same: a place is no value.
#[derive(Clone, Debug, Default)]
pub struct ReadAt(pub Option<Place>);

impl PartialEq for ReadAt {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for ReadAt {}
