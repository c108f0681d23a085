//! A failure made smaller: values are taken away as long as what is left fails alike.

use super::{Outcome, Trial, Workshop};
use crate::say;

/// As many at once as the lab works on side by side, and a few.
const AT_ONCE: usize = 4;

/// What is left of a trial that fails when nothing more can be taken away, and what came of that.
pub fn smaller(workshop: &Workshop, trial: Trial, outcome: Outcome) -> (Trial, Outcome) {
    let (mut least, mut told) = (trial, outcome);
    let mut size = least.choice.values.len().div_ceil(2).max(1);
    loop {
        let keys: Vec<usize> = least.choice.values.keys().copied().collect();
        let mut found = None;
        let without: Vec<Trial> = keys
            .chunks(size)
            .filter_map(|some| {
                let mut choice = least.choice.clone();
                choice.values.retain(|key, _| !some.contains(key));
                let written = workshop.taken(&choice).ok()?;
                Some(Trial { name: least.name.clone(), choice, written, keys_alone: least.keys_alone })
            })
            .collect();
        let mut without = without.into_iter().peekable();
        while found.is_none() && without.peek().is_some() {
            let some: Vec<Trial> = without.by_ref().take(AT_ONCE).collect();
            let outcomes = workshop.prove(&some.iter().collect::<Vec<_>>());
            found = some.into_iter().zip(outcomes).find(|(_, outcome)| outcome.first == told.first);
        }
        match found {
            Some((trial, outcome)) => {
                (least, told) = (trial, outcome);
                size = size.min(least.choice.values.len().div_ceil(2).max(1));
                say(&format!("{} fails alike with {} values", least.name, least.choice.values.len()));
            }
            None if size == 1 => return (least, told),
            None => size = size.div_ceil(2),
        }
        if least.choice.values.is_empty() {
            return (least, told);
        }
    }
}
