//! What becomes of a pair that is adopted, built anew and rehearsed: the same tunnel, or a reason.

use std::collections::BTreeSet;

use crate::known::{actor, context};
use uspan_core::{
    Adoptee, Certificate, Connection, Description, Gateway, Identity, IkeVersion, KeyFile, Method, Mode, NoteKind, OwnEnd, Profile,
    PublicKey, ReadGateway, Rehearsal, SecretFile, Severity, Source, Supplied, adopt, any_stops, build, rehearse,
};

/// What came of a pair.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rebuilt {
    /// The same selectors, proposals, identities and mode.
    Same,
    /// Adopting stopped, and said why.
    Stopped(String),
    /// Keys and certificates are to be supplied, which the files do not hold.
    NeedsKeys,
    /// What was adopted cannot be built, for this reason.
    Unbuilt(String),
    /// It is another tunnel, and a note says so.
    Told(String),
    /// It is another tunnel, and nothing says so.
    Lost(String),
}

/// What a tunnel is: what each end sends, its protection, who the two are, and the modes.
type Essence = (BTreeSet<(String, String, String)>, Vec<Identity>, BTreeSet<&'static str>, IkeVersion);

fn essence(gateways: [&Gateway; 2], rehearsal: &Rehearsal) -> Essence {
    let connections: [&Connection; 2] = [0, 1].map(|end| {
        let named = gateways[end].connections.iter().find(|connection| connection.name == rehearsal.names[end]);
        named.unwrap_or(&gateways[end].connections[0])
    });
    let opened = rehearsal.opened.iter().flat_map(|child| {
        child.selectors[0].iter().map(|(from, to)| (from.to_string(), to.to_string(), child.protection.clone())).collect::<Vec<_>>()
    });
    let identities = connections.map(|connection| connection.ike().local_identity.value.clone());
    let modes = connections.into_iter().flat_map(|connection| &connection.children).map(|child| match child.mode.value {
        Mode::Tunnel => "tunnel",
        Mode::Transport => "transport",
    });
    (opened.collect(), identities.into(), modes.collect(), connections[0].version())
}

/// Adopts two gateways that come up, builds what is adopted, and holds it against what they were.
pub fn rebuilt(names: [&str; 2], gateways: [&Gateway; 2], profiles: [&Profile; 2], before: &Rehearsal) -> Rebuilt {
    let reading = |end: usize| ReadGateway {
        name: names[end],
        gateway: gateways[end],
        ends_open: profiles[end].own_end == OwnEnd::ByAddress,
        tree: None,
    };
    let adopted = adopt([0, 1].map(|end| Adoptee { reading: reading(end), facts: profiles[end] }));
    let told: Vec<_> = adopted.notes.iter().filter(|note| note.kind != NoteKind::Told).collect();
    if let Some(note) = told.iter().find(|note| note.kind == NoteKind::AnotherTunnel) {
        return Rebuilt::Stopped(format!("{}: {}", note.about, note.text));
    }
    let (description, found) = Description::parse(&Source::new("adopted.span.toml", adopted.text.as_str()), context());
    let first = |found: &[uspan_core::Finding]| {
        let error = found.iter().find(|finding| finding.rule.severity == Severity::Error);
        error.map_or_else(String::new, |finding| format!("{} {}", finding.rule.code, finding.message))
    };
    if any_stops(&found) {
        return Rebuilt::Unbuilt(first(&found));
    }
    let signs = description.tunnels.iter().any(|tunnel| tunnel.method.value != Method::SharedSecret);
    if signs && adopted.shown.len() < 2 {
        return Rebuilt::NeedsKeys;
    }
    let mut supplied = Supplied { for_lab: true, ..Supplied::default() };
    for (file, secret) in &adopted.secrets {
        let read = SecretFile::Read { secret: secret.clone(), guesses_log10: 10.0, drawn: false, exposed: false };
        supplied.secrets.insert(file.clone(), read);
    }
    for (file, pem) in &adopted.shown {
        let key = match file.ends_with(".pub") {
            true => PublicKey::from_pem(pem).map(KeyFile::Public),
            false => Certificate::from_pem(pem).map(KeyFile::Certificate),
        };
        supplied.keys.insert(file.clone(), key.expect("what was read"));
    }
    let built = build(&description, &supplied);
    if any_stops(&built.findings) {
        return Rebuilt::Unbuilt(first(&built.findings));
    }
    let wanted = essence(gateways, before);
    let mut nearest = String::new();
    // Child SAs that differ are tunnels of their own: what they are together.
    let mut together: Option<Essence> = None;
    for tunnel in &built.tunnels {
        let turned = usize::from(tunnel.ends[0] != description.sites[0].name.value);
        let of = |end: usize| &tunnel.gateways[end ^ turned];
        let actors = [0, 1].map(|end| actor(ReadGateway { gateway: of(end), ..reading(end) }, profiles[end]));
        for after in &rehearse(actors, None).all {
            let found = essence([of(0), of(1)], after);
            if found == wanted {
                return Rebuilt::Same;
            }
            nearest = format!("{wanted:?} became {found:?}");
            match &mut together {
                Some(all) if (&all.1, all.3) == (&found.1, found.3) => {
                    all.0.extend(found.0);
                    all.2.extend(found.2);
                }
                Some(_) => {}
                None => together = Some(found),
            }
        }
    }
    if together.as_ref() == Some(&wanted) {
        return Rebuilt::Same;
    }
    if told.is_empty() {
        return Rebuilt::Lost(nearest);
    }
    Rebuilt::Told(format!("{}: {}", told[0].about, told[0].text))
}
