//! What a site's platform cannot do of what the description asks, each at its line, with the nearest that it can.

use crate::agreement::{Bundle, bundle};
use crate::algorithm::Row;
use crate::description::{Description, Site, Tunnel};
use crate::duration::duration_words;
use crate::finding::{self as rules, Finding};
use crate::gateway::{Identity, Opening};
use crate::platform::{Liveness, Sa};
use crate::source::Span;

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut say = |span: Span, message: String, remedy: String| {
        findings.push(Finding::new(&rules::PLATFORM_CANNOT, message).at(description.source.place(span)).remedy(remedy));
    };
    for tunnel in &description.tunnels {
        let ends = description.ends(tunnel);
        for (end, site) in ends.into_iter().enumerate() {
            identity(site, ends, &mut say);
            opening(tunnel, end, ends, &mut say);
        }
        pairs(description, tunnel, &mut say);
    }
    liveness(description, &mut say);
    findings.dedup();
    findings.extend(in_vain(description));
    findings
}

/// Algorithms that a site allows although its platform cannot do them.
fn in_vain(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    for site in &description.sites {
        let facts = site.platform.value.facts();
        for narrowing in &site.allows {
            let able =
                |row: &Row| [Sa::Ike, Sa::Esp].iter().any(|sa| facts.spelling(narrowing.kind, row.number, row.key_bits, *sa).is_some());
            for row in narrowing.rows.iter().filter(|row| !able(row.value)) {
                let message = format!("{} cannot do `{}` anyway", title(site), row.value.name);
                findings.push(Finding::new(&rules::ALLOWED_IN_VAIN, message).at(description.source.place(row.span)));
            }
        }
    }
    findings
}

type Say<'a> = &'a mut dyn FnMut(Span, String, String);

fn title(site: &Site) -> String {
    format!("{} ({})", site.name.value, site.platform.value.facts().title)
}

/// Both ends must know the kind of an identity: one sends it, the other expects it.
fn identity(site: &Site, ends: [&Site; 2], say: Say<'_>) {
    let Some(id) = site.identity.as_ref().filter(|id| matches!(id.value, Identity::Free(_))) else { return };
    if let Some(end) = ends.into_iter().find(|end| !end.platform.value.facts().identities.free) {
        let message = format!("{} does not know identities without form", title(end));
        say(id.span, message, format!("Use a DNS name, for example `identity = {{ name = \"{}.example.net\" }}`.", site.name.value));
    }
}

/// An end that is to open the tunnel in a way it cannot.
fn opening(tunnel: &Tunnel, end: usize, ends: [&Site; 2], say: Say<'_>) {
    let can = ends[end].platform.value.facts().openings;
    let (other, span) = (&ends[1 - end].name.value, tunnel.opens.span);
    let alone = tunnel.opened_by == Some(end);
    let opens = tunnel.opened_by.is_none_or(|starter| starter == end);
    let site = title(ends[end]);
    match tunnel.opens.value {
        Opening::OnTraffic if opens && !can.on_traffic => {
            say(
                span,
                format!("{site} cannot open on traffic"),
                format!("Say `opens = \"at-once\"`, or let {other} open: `opened-by = \"{other}\"`."),
            );
        }
        // The second of two that may open waits for traffic, so that they do not collide.
        Opening::AtOnce if tunnel.opened_by.is_none() && end == 1 && !can.on_traffic => {
            say(
                span,
                format!("{site}, the second end, cannot wait for traffic to open"),
                format!("Turn `between` round, or say `opened-by = \"{other}\"`."),
            );
        }
        Opening::Wait if alone && !can.by_hand => {
            say(
                span,
                format!("{site} has no command to open a tunnel"),
                format!("Say `opens = \"at-once\"`, or let {other} open: `opened-by = \"{other}\"`."),
            );
        }
        _ => {}
    }
}

fn pairs(description: &Description, tunnel: &Tunnel, say: Say<'_>) {
    if let Bundle::Impossible(why) = bundle(description, tunnel) {
        let remedy =
            "Carry one pair in this tunnel, or one larger network that covers them, with `carries`; or change one of the platforms.";
        say(tunnel.carries, why, remedy.to_owned());
    }
}

/// A daemon with one interval for everything, and tunnels that ask for different ones.
fn liveness(description: &Description, say: Say<'_>) {
    for (i, site) in description.sites.iter().enumerate() {
        if site.platform.value.facts().liveness != Liveness::OfDaemon {
            continue;
        }
        let mut here = description.tunnels.iter().filter(|tunnel| tunnel.between.iter().any(|end| end.value == i));
        let Some(first) = here.next() else { continue };
        for tunnel in here.filter(|tunnel| tunnel.liveness != first.liveness) {
            let words = |tunnel: &Tunnel| tunnel.liveness.map_or("off".to_owned(), duration_words);
            let message = format!(
                "{} has one liveness interval for all tunnels: `{}` has {}, `{}` has {}",
                title(site),
                first.name.value,
                words(first),
                tunnel.name.value,
                words(tunnel)
            );
            say(tunnel.liveness_at, message, format!("Say `liveness = \"{}\"` here too.", words(first)));
        }
    }
}
