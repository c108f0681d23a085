//! What would go wrong, found before anything is decided.

mod beyond;
mod identities;
mod keys;
mod platforms;
mod secrets;
mod siblings;
mod sites;
mod tunnels;

pub use secrets::{SecretFile, Supplied};

use crate::agreement::{old_version, weak_algorithms};
use crate::description::Description;
use uspan_model::finding::{Finding, in_reading_order};
use uspan_model::parallel;

/// From so many tunnels on a check is worth several threads.
const MANY: usize = 1000;

/// Checks a description and what was supplied with it.
pub fn check(description: &Description, supplied: &Supplied) -> Vec<Finding> {
    let sites = || {
        let mut findings = sites::check(description);
        findings.extend(identities::check(description));
        findings.extend(platforms::check(description));
        findings
    };
    let tunnels = || {
        let mut findings = tunnels::check(description);
        findings.extend(beyond::check(description));
        findings.extend(siblings::check(description));
        findings
    };
    let rest = || {
        let algorithms = description.tunnels.iter().flat_map(|tunnel| {
            let old = old_version(description, tunnel);
            old.into_iter().chain(weak_algorithms(description, tunnel))
        });
        let mut findings: Vec<_> = algorithms.collect();
        findings.extend(secrets::check(description, supplied));
        findings.extend(keys::check(description, supplied));
        findings
    };
    let parts: Vec<&(dyn Fn() -> Vec<Finding> + Sync)> = vec![&sites, &tunnels, &rest];
    let found = parallel::each(parts, description.tunnels.len() < MANY, |part| part());
    let mut findings: Vec<_> = found.into_iter().flatten().collect();
    in_reading_order(&mut findings);
    findings
}
