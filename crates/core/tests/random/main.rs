//! Laws over random gateways and descriptions; `USPAN_CASES` says how many.

#[path = "../common/descriptions.rs"]
mod descriptions;
#[path = "../common/gateways.rs"]
mod gateways;
#[path = "../common/known.rs"]
mod known;

mod built;
mod hub;
mod judge;
mod keywords;
