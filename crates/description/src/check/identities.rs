//! Who is who.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use crate::description::{Address, Description, Site};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::Identity;
use uspan_model::source::Span;

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut known: HashMap<Identity, &Site> = HashMap::with_capacity(description.sites.len());
    let place = |span| description.source.place(span);
    for site in &description.sites {
        let identity = site.identity();
        if let Some(Identity::Address(address)) = site.identity.as_ref().map(|id| &id.value)
            && site.reached().address().is_some_and(|at| at != *address)
        {
            let message = format!("`{}` names itself {address}, but its gateway address is {}", site.name.value, site.address.value);
            findings.push(Finding::new(&rules::FOREIGN_ADDRESS_IDENTITY, message).at(place(span(site))));
        }
        findings.extend(without_address(site).map(|(rule, message)| Finding::new(rule, message).at(place(span(site)))));
        match known.entry(identity) {
            Entry::Vacant(first) => drop(first.insert(site)),
            Entry::Occupied(known) => {
                let (other, identity) = (known.get(), known.key());
                // Equal gateway addresses are a finding of their own.
                if site.identity.is_some() || other.identity.is_some() {
                    let message = format!("`{}` and `{}` are both `{identity}`", other.name.value, site.name.value);
                    findings.push(Finding::new(&rules::SAME_IDENTITY, message).at(place(span(site))).with(place(span(other)), "also here"));
                }
            }
        }
    }
    findings
}

/// A gateway that needs a name because its address says nothing about it.
fn without_address(site: &Site) -> Option<(&'static Rule, String)> {
    let by_address = matches!(site.identity(), Identity::Address(_));
    let name = &site.name.value;
    match site.address.value {
        Address::Dynamic if by_address => {
            Some((&rules::IDENTITY_NEEDED, format!("`{name}` has no fixed address, and is recognised by one")))
        }
        _ if site.own_address.is_some() && by_address => Some((
            &rules::ADDRESS_IDENTITY_BEHIND_NAT,
            format!("`{name}` stands behind a NAT device and names itself by an address that is not on any of its interfaces"),
        )),
        _ => None,
    }
}

fn span(site: &Site) -> Span {
    site.identity.as_ref().map_or(site.address.span, |id| id.span)
}
