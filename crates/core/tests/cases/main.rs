//! Cases chosen by hand, in one program: each program of tests is linked by itself.

#[path = "../common/known.rs"]
mod known;
#[path = "../common/orchard.rs"]
mod orchard;

mod adopt;
mod budget;
mod certificates;
mod compare;
mod cross_check;
mod demo;
mod drawing;
mod everything;
mod fleet;
mod reading;
mod rehearse;
mod release;
mod rules;
mod rulesets;
mod selectors;
mod sheet;
mod siblings;
mod strangers;
mod time;
