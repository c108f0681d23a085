//! What would go wrong, found before anything is decided.

mod identities;
mod keys;
mod platforms;
mod secrets;
mod sites;
mod tunnels;

pub use secrets::{SecretFile, Supplied};

use crate::agreement::{old_version, weak_algorithms};
use crate::description::Description;
use crate::finding::{Finding, in_reading_order};

/// Checks a description and what was supplied with it.
pub fn check(description: &Description, supplied: &Supplied) -> Vec<Finding> {
    let mut findings = sites::check(description);
    findings.extend(identities::check(description));
    findings.extend(tunnels::check(description));
    findings.extend(platforms::check(description));
    for tunnel in &description.tunnels {
        findings.extend(old_version(description, tunnel));
        findings.extend(weak_algorithms(description, tunnel));
    }
    findings.extend(secrets::check(description, supplied));
    findings.extend(keys::check(description, supplied));
    in_reading_order(&mut findings);
    findings
}
