//! Who is who.

use std::collections::BTreeMap;

use crate::description::{Description, Site};
use crate::finding::{self as rules, Finding};
use crate::gateway::Identity;
use crate::source::Span;

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut known: BTreeMap<Identity, &Site> = BTreeMap::new();
    let place = |span| description.source.place(span);
    for site in &description.sites {
        let identity = site.identity();
        if let Some(Identity::Address(address)) = site.identity.as_ref().map(|id| &id.value)
            && *address != site.address.value
        {
            let message = format!("`{}` names itself {address}, but its gateway address is {}", site.name.value, site.address.value);
            findings.push(Finding::new(&rules::FOREIGN_ADDRESS_IDENTITY, message).at(place(span(site))));
        }
        if let Some(other) = known.get(&identity) {
            // Equal gateway addresses are a finding of their own.
            if site.identity.is_some() || other.identity.is_some() {
                let message = format!("`{}` and `{}` are both `{identity}`", other.name.value, site.name.value);
                findings.push(Finding::new(&rules::SAME_IDENTITY, message).at(place(span(site))).with(place(span(other)), "also here"));
            }
        } else {
            known.insert(identity, site);
        }
    }
    findings
}

fn span(site: &Site) -> Span {
    site.identity.as_ref().map_or(site.address.span, |id| id.span)
}
