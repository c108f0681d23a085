//! Writes a gateway as ipsec.conf(5) sections and an ipsec.secrets(5) file (0600).
//!
//! One section holds what concerns the peer; each pair of selectors is a section of its own that
//! takes it over. This end is always on the left.

use std::fmt::Write as _;
use std::time::Duration;

use super::proposal::{self, SEQUENCE_NUMBERS};
use super::syntax::quote;
use super::{FOLDER, IKEV1_SWITCH, OWN, OWN_CERTIFICATE, OWN_PRIVATE, SWITCHES, authority_file, signatures};
use crate::address_text;
use crate::algorithm::Kind;
use crate::dialect::{Remarks, Unwritable};
use crate::dialect::{head, remark};
use crate::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, IkeVersion, Lifetime, Method, Mode, OnDeadPeer, Opening,
    Proposal, SharedSecret, Tree, TreeFile,
};
use crate::platform::{Profile, v1_patience};

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    if gateway.connections.iter().any(|connection| connection.version() == IkeVersion::V1) {
        tree.add(SWITCHES, TreeFile::shared(IKEV1_SWITCH.to_owned()));
    }
    let mut out = head(&remarks.head);
    for connection in &gateway.connections {
        write_connection(profile, &mut out, gateway, connection, remarks)?;
    }
    tree.add(format!("{FOLDER}/{}.conf", remarks.stem), TreeFile::public(out));
    if let [pair] = gateway.key_pairs.as_slice()
        && let Some(certificate) = &pair.certificate
    {
        // All tunnels write the same lines.
        tree.add(OWN_CERTIFICATE, TreeFile::common(certificate.pem().to_owned()));
        if let Some(text) = pair.private_text() {
            tree.add(OWN_PRIVATE, TreeFile::shared(text));
        }
    }
    for authority in &gateway.authorities {
        tree.add(authority_file(authority), TreeFile::common(authority.pem().to_owned()));
    }
    if !gateway.secrets.is_empty() {
        let secrets = write_secrets(&gateway.secrets, remarks).map_err(|e| vec![e])?;
        tree.add(format!("{FOLDER}/{}.secrets", remarks.stem), TreeFile::private(secrets));
    }
    Ok(tree)
}

/// An identity as it stands in both files. The leading `@` keeps the daemon from asking a name server.
fn identity(identity: &Identity) -> Result<String, Unwritable> {
    quote(&match identity {
        Identity::Anybody | Identity::Implied(_) => return Err(Unwritable::no_identity()),
        Identity::Address(address) => address_text::address(*address),
        Identity::Name(name) => format!("@{name}"),
        Identity::Mail(name) => name.clone(),
        Identity::Free(name) => format!("@[{name}]"),
        Identity::Subject(subject) => subject.to_string(),
    })
}

fn name(name: &str) -> Result<&str, Unwritable> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_.".contains(&b);
    if name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.bytes().all(plain) {
        Ok(name)
    } else {
        Err(Unwritable::new("a section name with other characters than letters, digits, `-`, `_` and `.`", "Choose a plain name."))
    }
}

fn seconds(duration: Duration) -> String {
    format!("{}s", duration.as_secs())
}

fn life(profile: &Profile, lifetime: Lifetime) -> Result<String, Unwritable> {
    if lifetime.hard > profile.longest_lifetime {
        return Err(Unwritable::new("a lifetime over 24 h, which Libreswan does not accept", "Choose at most `24h`."));
    }
    if lifetime.soft() < lifetime.margin {
        return Err(Unwritable::new("a lifetime shorter than twice its margin", "Choose a longer lifetime."));
    }
    Ok(seconds(lifetime.hard))
}

fn joined<T>(items: &[T], spell: impl Fn(&T) -> Result<String, Unwritable>) -> Result<String, Vec<Unwritable>> {
    let (words, refused): (Vec<_>, Vec<_>) = items.iter().map(spell).partition(Result::is_ok);
    match refused.is_empty() {
        true => Ok(words.into_iter().filter_map(Result::ok).collect::<Vec<_>>().join(",")),
        false => Err(refused.into_iter().filter_map(Result::err).collect()),
    }
}

/// The one rekey margin that the daemon has for a connection.
fn common_margin(connection: &Connection) -> Result<Duration, Unwritable> {
    let margin = connection.ike().lifetime.value.margin;
    if connection.children.iter().all(|child| child.lifetime.value.margin == margin) {
        Ok(margin)
    } else {
        Err(Unwritable::new("different rekey margins for IKE and ESP, while Libreswan has one for both", "Use the same margin."))
    }
}

fn write_connection(
    profile: &Profile,
    out: &mut String,
    gateway: &Gateway,
    connection: &Connection,
    remarks: &Remarks,
) -> Result<(), Vec<Unwritable>> {
    let several = |proposal: &Proposal| proposal.of(Kind::KeyExchange).len() > 1;
    if connection.version() == IkeVersion::V1 && connection.ike().proposals.value.iter().any(several) {
        return Err(vec![Unwritable::new(
            "several groups in one proposal of IKEv1, which Libreswan cannot read",
            "Write a proposal for each.",
        )]);
    }
    let one = |e| vec![e];
    let base = name(&connection.name).map_err(one)?;
    for (i, child) in connection.children.iter().enumerate() {
        if !child.name.starts_with(&format!("{base}_")) {
            return Err(vec![Unwritable::new(
                "a child whose name does not begin with the connection's name",
                "Name it after the connection.",
            )]);
        }
        fits(connection, child).map_err(one)?;
        let selectors = remarks.selectors.get(i).map_or("", String::as_str);
        write_child(profile, out, base, child, remarks, selectors)?;
    }
    let v1 = connection.version() == IkeVersion::V1;
    let proof = match [connection.ike().local_method.value, connection.ike().remote_method.value] {
        [Method::SharedSecret, Method::SharedSecret] => "secret",
        [Method::Certificate, Method::Certificate] => match gateway.own_certificate(connection) {
            Some(certificate) => signatures(certificate.kind()),
            None => return Err(vec![Unwritable::new("an end without a certificate", "Give it one.")]),
        },
        [Method::PublicKey, _] | [_, Method::PublicKey] => {
            let what = "public keys without certificates, of which Libreswan 4.10 knows those of RSA alone";
            return Err(vec![Unwritable::new(what, "Use certificates or a shared secret.")]);
        }
        _ => return Err(vec![Unwritable::new("ends that prove themselves in different ways", "Use the same for both.")]),
    };
    let _ = writeln!(out, "conn {base}\n\tikev2={}\n\tauthby={proof}", if v1 { "no" } else { "insist" });
    if connection.ike().exchange.value == Exchange::V1Aggressive {
        let _ = writeln!(out, "\taggressive=yes");
    }
    remark(out, "\t", &remarks.addresses);
    one_place(&connection.local.value).and(one_place(&connection.remote.value)).map_err(one)?;
    let left = address_text::endpoint(&connection.local.value, "%defaultroute");
    let right = address_text::endpoint(&connection.remote.value, "%any");
    let _ = writeln!(out, "\tleft={left}\n\tright={right}");
    if let Some(id) = connection.interface.value {
        remark(out, "\t", &remarks.routes);
        // The interface and its routes are there already; the daemon's script would set its own.
        let _ = writeln!(out, "\tipsec-interface={id}\n\tleftupdown=\"\"");
    }
    match connection.encapsulation.value {
        Encapsulation::Automatic => {}
        Encapsulation::Forced => out.push_str("\tencapsulation=yes\n"),
        Encapsulation::Off => out.push_str("\tencapsulation=no\n"),
    }
    remark(out, "\t", &remarks.identities);
    let _ = writeln!(out, "\tleftid={}", identity(&connection.ike().local_identity.value).map_err(one)?);
    let _ = writeln!(out, "\trightid={}", identity(&connection.ike().remote_identity.value).map_err(one)?);
    if connection.ike().local_method.value == Method::Certificate {
        remark(out, "\t", &remarks.secret);
        let _ = writeln!(out, "\tleftcert={OWN}");
    }
    remark(out, "\t", &remarks.ike);
    let _ = writeln!(out, "\tike={}", joined(&connection.ike().proposals.value, |one| proposal::write(profile, one))?);
    remark(out, "\t", &remarks.ike_lifetime);
    let _ = writeln!(out, "\tikelifetime={}", life(profile, connection.ike().lifetime.value).map_err(one)?);
    let _ = writeln!(out, "\trekeymargin={}", seconds(common_margin(connection).map_err(one)?));
    if let Some(interval) = connection.ike().liveness.value {
        remark(out, "\t", &remarks.liveness);
        // In IKEv2 the interval alone switches the check on (4.10 warns about a timeout beside it).
        let _ = writeln!(out, "\tdpddelay={}", seconds(interval));
        if v1 {
            let _ = writeln!(out, "\tdpdtimeout={}", seconds(v1_patience(interval)));
        }
    }
    if !connection.ike().persistent.value {
        let _ = writeln!(out, "\tkeyingtries=1");
    }
    Ok(())
}

fn one_place(end: &Endpoint) -> Result<(), Unwritable> {
    match end {
        Endpoint::OneOf(_) | Endpoint::Within(_) => {
            Err(Unwritable::new("an end at one of several addresses, while Libreswan has one", "Write one address, or any."))
        }
        _ => Ok(()),
    }
}

/// What the daemon or its route script cannot do with a child of this connection.
fn fits(connection: &Connection, child: &Child) -> Result<(), Unwritable> {
    if child.on_dead_peer.value.is_some() != connection.ike().liveness.value.is_some() {
        return Err(Unwritable::new("an action for a dead peer without a liveness check, or the other way round", "Set both or none."));
    }
    let outer = connection.outer_ipv4();
    if connection.interface.value.is_none() && child.local.value.iter().chain(&child.remote.value).any(|net| net.addr().is_ipv4() != outer)
    {
        return Err(Unwritable::new(
            "networks of another address family than the gateways', for which Libreswan's route script fails",
            "Give the gateways addresses of the family of their networks, or leave those pairs out with `carries`.",
        ));
    }
    Ok(())
}

fn write_child(
    profile: &Profile,
    out: &mut String,
    base: &str,
    child: &Child,
    remarks: &Remarks,
    selectors: &str,
) -> Result<(), Vec<Unwritable>> {
    let one = |e| vec![e];
    let ([local], [remote]) = (child.local.value.as_slice(), child.remote.value.as_slice()) else {
        return Err(vec![Unwritable::new(
            "several selectors in one Child SA, while Libreswan has one pair for each",
            "Write a Child SA for each pair.",
        )]);
    };
    let _ = writeln!(out, "conn {}\n\talso={base}", name(&child.name).map_err(one)?);
    remark(out, "\t", selectors);
    out.extend(["\tleftsubnet=", &address_text::prefix(*local), "\n\trightsubnet=", &address_text::prefix(*remote), "\n"]);
    if let Some(protocol) = child.protocol.value {
        let _ = writeln!(out, "\tleftprotoport={protocol}/0\n\trightprotoport={protocol}/0");
    }
    remark(out, "\t", &remarks.esp);
    let _ = writeln!(out, "\tesp={}", joined(&child.esp.value, |one| proposal::write(profile, one))?);
    let _ = writeln!(out, "\tpfs={}\n\tesn={}", pfs(child).map_err(one)?, sequence_numbers(child).map_err(one)?);
    let mode = match child.mode.value {
        Mode::Tunnel => "tunnel",
        Mode::Transport => "transport",
    };
    let _ = writeln!(out, "\ttype={mode}");
    remark(out, "\t", &remarks.esp_lifetime);
    let _ = writeln!(out, "\tsalifetime={}", life(profile, child.lifetime.value).map_err(one)?);
    remark(out, "\t", &remarks.opening);
    let opening = match child.opening.value {
        Opening::START => "start",
        Opening::TRAP => "ondemand",
        Opening::WAIT => "add",
        Opening::BOTH => {
            let what = "opening at once with a trap beside it, of which Libreswan has one or the other";
            return Err(vec![Unwritable::new(what, "Let it open at once, or on traffic.")]);
        }
    };
    let dead = match child.on_dead_peer.value {
        Some(OnDeadPeer::Reopen) => Some("restart"),
        Some(OnDeadPeer::AwaitTraffic) => Some("hold"),
        Some(OnDeadPeer::Forget) => Some("clear"),
        None => None,
    };
    let _ = writeln!(out, "\tauto={opening}");
    if let Some(dead) = dead {
        let _ = writeln!(out, "\tdpdaction={dead}");
    }
    match child.dscp.value {
        Dscp::Outwards => {}
        Dscp::Both => out.push_str("\tdecap-dscp=yes\n"),
        Dscp::Never => {
            return Err(vec![Unwritable::new("a DSCP that is not copied outwards, which Libreswan cannot say", "Let it be copied.")]);
        }
    }
    let _ = writeln!(out, "\treplay-window={}\n", child.replay_window.value);
    Ok(())
}

/// PFS is switched for all proposals of a connection, and they share one group.
fn pfs(child: &Child) -> Result<&'static str, Unwritable> {
    let proposals = &child.esp.value;
    let first = proposals.first().map(|p| p.of(Kind::KeyExchange)).unwrap_or_default();
    if first.len() > 1 || proposals.iter().any(|p| p.of(Kind::KeyExchange) != first) {
        return Err(Unwritable::new(
            "ESP proposals with different PFS groups, while Libreswan takes one for all",
            "Use the same group in all ESP proposals.",
        ));
    }
    Ok(if first.is_empty() { "no" } else { "yes" })
}

/// Sequence numbers of all proposals of a connection, as one word.
fn sequence_numbers(child: &Child) -> Result<&'static str, Unwritable> {
    let mut each = child.esp.value.iter().map(|proposal| proposal.of(Kind::SequenceNumbers));
    let first = each.next().unwrap_or_default();
    let word = SEQUENCE_NUMBERS.iter().find(|(_, numbers)| *numbers == first).map(|(word, _)| *word);
    word.filter(|_| each.all(|other| other == first)).ok_or_else(|| {
        Unwritable::new("ESP proposals that differ in sequence numbers, while Libreswan has one setting for all", "Say the same in all.")
    })
}

fn write_secrets(secrets: &[SharedSecret], remarks: &Remarks) -> Result<String, Unwritable> {
    let mut out = head(&remarks.head);
    remark(&mut out, "", &remarks.secret);
    for entry in secrets {
        for id in &entry.identities {
            out.push_str(&identity(id)?);
            out.push(' ');
        }
        // Hexadecimal: the same bytes for every daemon, whatever characters the secret has.
        out.push_str(": PSK 0x");
        out.push_str(&entry.secret.to_hex());
        out.push('\n');
    }
    Ok(out)
}
