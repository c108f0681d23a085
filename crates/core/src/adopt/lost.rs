//! What of two connections a description does not say: what is left out, and what would make it another tunnel.

use super::{Adopted, Adoptee, Counterparts, Note, NoteKind};
use uspan_description::description::SelectorLimit;
use uspan_model::gateway::{Bearing, Certification, Child, Connection, GRE, IKE_PORT, Ike, Method, Protocol, Unmodelled};
use uspan_model::key::{KeyKind, PublicKey};
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

/// Settings of keys and certificates: those are kept apart from the description, as files.
const OF_KEYS: [&str; 7] = ["leftcert", "rightcert", "certs", "leftckaid", "rightckaid", "leftsendcert", "rightsendcert"];

/// Notes what is lost of a pair.
pub(super) fn told(adopted: &mut Adopted, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>) {
    for end in 0..2 {
        let mut note = |about: &str, text: String, place: Option<&Place>, kind: NoteKind| {
            let mut places = [None, None];
            places[end] = place.cloned();
            let about = format!("{about} of {}", ends[end].reading.name);
            let note = Note { tunnel: Some(pair.name.clone()), about, text, places, kind };
            if !adopted.notes.contains(&note) {
                adopted.notes.push(note);
            }
        };
        let spelled = |place: &Place| ends[end].reading.spelling(place).unwrap_or_else(|| "what stands there".to_owned());
        let connection = pair.connections[end];
        for one in &connection.remainder.0 {
            let text = spelled(&one.place);
            match kind_of(one) {
                kind @ NoteKind::AnotherTunnel => {
                    let text = format!("`{text}` is not understood: the tunnel may be another one without it");
                    note("a statement", text, Some(&one.place), kind);
                }
                kind => note("a setting", format!("`{text}` is left out: a description does not say that"), Some(&one.place), kind),
            }
        }
        for (about, of_peer, place) in connection.doubts() {
            let about = [called(about), if of_peer { " of the peer" } else { "" }].concat();
            let text = format!("`{}` is not understood, so that it is not known what it would have to be", spelled(place));
            note(&about, text, Some(place), NoteKind::AnotherTunnel);
        }
        let ike = connection.ike();
        if ike.local_method.value != ike.remote_method.value {
            let text = format!(
                "{} itself, {} for the peer: a description has one way for both",
                ike.local_method.value.words(),
                ike.remote_method.value.words()
            );
            note("authentication", text, ike.local_method.origin.place(), NoteKind::AnotherTunnel);
        }
        for (about, text, place, kind) in of_ike(ike) {
            note(about, text, place, kind);
        }
        let own_key = ends[end].reading.gateway.own_key(connection).and_then(PublicKey::kind);
        if ike.local_method.value == Method::PublicKey && matches!(own_key, Some(KeyKind::Rsa(_))) {
            let text = "a bare public key of RSA, of which a description has those on the curves P-256 and P-384 alone".to_owned();
            note("key", text, ike.local_method.origin.place().or(connection.local.origin.place()), NoteKind::AnotherTunnel);
        }
        if let Some(child) = beside_networks(connection) {
            let text = "networks, and beside them what the gateways send each other: a description has one or the other".to_owned();
            note("selectors", text, child.local.origin.place(), NoteKind::AnotherTunnel);
        }
        let Some(first) = connection.children.first() else { continue };
        let twin = pair.connections[1 - end].children.first();
        if let Some(place) = twin.and_then(|twin| limited_alone(first, twin)) {
            let text = "limited to a protocol or ports, to which the other end's are not: a description has one limit for both".to_owned();
            note("selectors", text, place, NoteKind::AnotherTunnel);
        }
        for child in &connection.children {
            if child.esp.value.iter().any(|proposal| proposal.protocol == Protocol::Ah) {
                let text = "AH, which a description does not have: ESP would be another tunnel".to_owned();
                note("protection", text, child.esp.origin.place(), NoteKind::AnotherTunnel);
            }
            if let Some((text, place)) = of_limit(connection, child, first) {
                note("selectors", text, place, NoteKind::AnotherTunnel);
            }
            if child.narrowing.value == Some(true) {
                let text = "a part of them is enough, which a description does not say".to_owned();
                note("selectors", text, child.narrowing.origin.place(), NoteKind::LeftOut);
            }
            if (&child.esp, &child.mode) != (&first.esp, &first.mode) {
                let text =
                    format!("those of `{}` differ from those of `{}`, and a description has the same for all", child.name, first.name);
                note("proposals or mode", text, child.esp.origin.place().or(child.mode.origin.place()), NoteKind::AnotherTunnel);
            }
            if child.lifetime != first.lifetime {
                let text = format!("that of `{}` differs from that of `{}`, which is taken for all", child.name, first.name);
                note("lifetime", text, child.lifetime.origin.place(), NoteKind::LeftOut);
            }
        }
    }
}

/// Where it stands that the selectors of a Child SA are limited otherwise than those of the other end's, if they are.
fn limited_alone<'a>(child: &'a Child, twin: &Child) -> Option<Option<&'a Place>> {
    let [own, far] = child.ports.value;
    ((twin.protocol.value, twin.ports.value) != (child.protocol.value, [far, own])).then(|| child.protocol.origin.place())
}

/// What of the limit of a Child SA's selectors a description does not say, and where it stands.
fn of_limit<'a>(connection: &Connection, child: &'a Child, first: &Child) -> Option<(String, Option<&'a Place>)> {
    let limited = child.protocol.value.filter(|protocol| *protocol != GRE);
    let ports = if child.ports.value == [None, None] { "" } else { " and ports" };
    let text = if let Some(protocol) = limited.filter(|_| connection.joins_gateways(child)) {
        format!("the gateways themselves, limited to IP protocol {protocol}{ports}, which a description does not say")
    } else if let Some(protocol) = limited.filter(|protocol| !SelectorLimit::is_for(*protocol)) {
        format!("limited to IP protocol {protocol}: a description knows TCP, UDP and ICMP")
    } else if child.ports.value.iter().all(Option::is_some) {
        "limited to a port at each end, which a description does not say: it has one of a service".to_owned()
    } else if (&child.protocol, &child.ports) != (&first.protocol, &first.ports) {
        format!("limited to another protocol or ports than those of `{}`: a description has one limit", first.name)
    } else {
        return None;
    };
    Some((text, child.ports.origin.place().or(child.protocol.origin.place())))
}

/// What of IKE with a peer a description does not say: what it is about, what it is, where it stands.
fn of_ike(ike: &Ike) -> Vec<(&'static str, String, Option<&Place>, NoteKind)> {
    let Certification { any_name, withheld, .. } = &ike.certification;
    let mut lost = Vec::new();
    if any_name.value {
        let text = "the peer's certificate may leave out the name that it says, which a description does not say".to_owned();
        lost.push(("authentication", text, any_name.origin.place(), NoteKind::AnotherTunnel));
    }
    if withheld.value {
        let text = "the own certificate is kept from the peer, which a description does not say: it will be shown".to_owned();
        lost.push(("authentication", text, withheld.origin.place(), NoteKind::LeftOut));
    }
    if ike.ports.value != [IKE_PORT; 2] {
        let [own, peer] = ike.ports.value;
        let text = format!("IKE on UDP {own} to {peer}, which a description does not say");
        lost.push(("ports", text, ike.ports.origin.place(), NoteKind::AnotherTunnel));
    }
    lost
}

/// What carries what the gateways themselves send, where others carry networks.
fn beside_networks(connection: &Connection) -> Option<&Child> {
    let (between, networks): (Vec<_>, Vec<_>) = connection.children.iter().partition(|child| connection.is_between_gateways(child));
    between.into_iter().next().filter(|_| !networks.is_empty())
}

/// What the loss of a statement without a field comes to.
fn kind_of(one: &Unmodelled) -> NoteKind {
    match one.bearing {
        Bearing::Aside => NoteKind::LeftOut,
        Bearing::Authentication if OF_KEYS.contains(&one.keyword.as_str()) => NoteKind::LeftOut,
        Bearing::Authentication | Bearing::ChildSa | Bearing::Unknown | Bearing::Refused => NoteKind::AnotherTunnel,
    }
}

/// What a parameter is called in a note about one connection.
fn called(about: Parameter) -> &'static str {
    match about {
        Parameter::KeyExchange => "version",
        Parameter::Selectors | Parameter::Protocol => "selectors",
        Parameter::EspProposals => "proposals",
        Parameter::EspMode => "mode",
        Parameter::IkeLifetime | Parameter::EspLifetime => "lifetime",
        other => other.words(),
    }
}
