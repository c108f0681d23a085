//! Writes a gateway as ipsec.conf(5) connections and ipsec.secrets(5) entries.

use std::fmt::Write as _;
use std::time::Duration;

use ipnet::IpNet;

use super::statements::identity_text;
use super::{FOLDER, IKEV1_SWITCH, OWN, OWN_CERTIFICATE, OWN_PRIVATE, SWITCHES, authority_file, signatures};
use crate::dialect::{Draft, Remarks, Unwritable, remark};
use crate::profile::statement::{Field, LineLayout, ProtocolPort, Record, Section, Selector, write_section};
use crate::profile::{Profile, v1_patience};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Child, Connection, Exchange, Gateway, IkeVersion, Method, Proposal, Protocol, SharedSecret, Tree, TreeFile};

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    if gateway.connections.iter().any(|connection| connection.version() == IkeVersion::V1) {
        tree.add(SWITCHES, TreeFile::shared(IKEV1_SWITCH.to_owned()));
    }
    let mut out = Draft::new(&remarks.head);
    for connection in &gateway.connections {
        write_connection(profile, &mut out, gateway, connection, remarks)?;
    }
    tree.add([FOLDER, "/", &remarks.stem, ".conf"].concat(), out.public());
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
        tree.add([FOLDER, "/", &remarks.stem, ".secrets"].concat(), TreeFile::private(secrets));
    }
    Ok(tree)
}

fn name(name: &str) -> Result<&str, Unwritable> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_.".contains(&b);
    if name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.bytes().all(plain) {
        Ok(name)
    } else {
        Err(Unwritable::new("a section name with other characters than letters, digits, `-`, `_` and `.`", "Choose a plain name."))
    }
}

/// The one rekey margin that the daemon has for a connection.
fn common_margin(connection: &Connection) -> Result<Duration, Unwritable> {
    let margin = connection.ike().lifetime.value.margin;
    if connection.children.iter().any(|child| child.lifetime.value.margin != margin) {
        return Err(Unwritable::new("different rekey margins for IKE and ESP, while Libreswan has one for both", "Use the same margin."));
    }
    let lives = connection.children.iter().map(|child| child.lifetime.value).chain([connection.ike().lifetime.value]);
    match lives.into_iter().any(|life| life.soft() < life.margin) {
        true => Err(Unwritable::new("a lifetime shorter than twice its margin", "Choose a longer lifetime.")),
        false => Ok(margin),
    }
}

/// How both ends prove themselves, in the daemon's words.
fn proofs(gateway: &Gateway, connection: &Connection) -> Result<&'static str, Unwritable> {
    let ike = connection.ike();
    match [ike.local_method.value, ike.remote_method.value] {
        [Method::SharedSecret, Method::SharedSecret] => Ok("secret"),
        [Method::Certificate, Method::Certificate] => match gateway.own_certificate(connection) {
            Some(certificate) => Ok(signatures(certificate.kind())),
            None => Err(Unwritable::new("an end without a certificate", "Give it one.")),
        },
        [Method::PublicKey, _] | [_, Method::PublicKey] => {
            let what = "public keys without certificates, of which Libreswan 4.10 knows those of RSA alone";
            Err(Unwritable::new(what, "Use certificates or a shared secret."))
        }
        _ => Err(Unwritable::new("ends that prove themselves in different ways", "Use the same for both.")),
    }
}

fn write_connection(
    profile: &Profile,
    out: &mut Draft,
    gateway: &Gateway,
    connection: &Connection,
    remarks: &Remarks,
) -> Result<(), Vec<Unwritable>> {
    let several = |proposal: &Proposal| proposal.of(Kind::KeyExchange).len() > 1;
    let ike = connection.ike();
    if connection.version() == IkeVersion::V1 && ike.proposals.value.iter().any(several) {
        return Err(vec![Unwritable::new(
            "several groups in one proposal of IKEv1, which Libreswan cannot read",
            "Write a proposal for each.",
        )]);
    }
    let one = |e| vec![e];
    let layout = |child| LineLayout { indent: "\t", between: "=", remarks, child };
    let base = name(&connection.name).map_err(one)?;
    for (i, child) in connection.children.iter().enumerate() {
        if child.name.strip_prefix(base).is_none_or(|rest| !rest.starts_with('_')) {
            return Err(vec![Unwritable::new(
                "a child whose name does not begin with the connection's name",
                "Name it after the connection.",
            )]);
        }
        fits(connection, child).map_err(one)?;
        let _ = writeln!(out, "conn {}\n\talso={base}", name(&child.name).map_err(one)?);
        write_section(out, profile, Section::Child, &of_child(child).map_err(one)?, &layout(i))?;
        out.push('\n');
    }
    let mut record = Record::default();
    record.plan(Field::Version, connection.version());
    record.plan(Field::Proofs, proofs(gateway, connection).map_err(one)?.to_owned());
    record.plan(Field::Aggressive, ike.exchange.value == Exchange::V1Aggressive);
    record.plan(Field::LocalAddress, connection.local.value.clone());
    record.plan(Field::RemoteAddress, connection.remote.value.clone());
    record.plan_some(Field::InterfaceOut, connection.interface.value);
    record.plan_some(Field::NoScript, connection.interface.value.map(|_| true));
    record.plan(Field::Encapsulation, connection.encapsulation.value);
    record.plan(Field::LocalIdentity, ike.local_identity.value.clone());
    record.plan(Field::RemoteIdentity, ike.remote_identity.value.clone());
    record.plan_some(Field::LocalCertificate, (ike.local_method.value == Method::Certificate).then(|| OWN.to_owned()));
    record.plan(Field::IkeProposals, ike.proposals.value.clone());
    record.plan(Field::IkeHardLife, ike.lifetime.value.hard);
    record.plan(Field::IkeMargin, common_margin(connection).map_err(one)?);
    record.plan_some(Field::Liveness, ike.liveness.value);
    let old = connection.version() == IkeVersion::V1;
    record.plan_some(Field::Patience, ike.liveness.value.filter(|_| old).map(v1_patience));
    record.plan(Field::Tries, if ike.persistent.value { 0u32 } else { 1 });
    let _ = writeln!(out, "conn {base}");
    write_section(out, profile, Section::Connection, &record, &layout(0))
}

fn of_child(child: &Child) -> Result<Record, Unwritable> {
    let mut record = Record::default();
    let selectors = |nets: &[IpNet]| nets.iter().map(|net| Selector { net: Some(*net), protocol: None, port: None }).collect::<Vec<_>>();
    record.plan(Field::LocalSelectors, selectors(&child.local.value));
    record.plan(Field::RemoteSelectors, selectors(&child.remote.value));
    for (field, port) in [Field::LocalProtocol, Field::RemoteProtocol].into_iter().zip(child.ports.value) {
        record.plan_some(field, child.protocol.value.map(|protocol| ProtocolPort { protocol, port }));
    }
    let is_ah = child.esp.value.iter().all(|proposal| proposal.protocol == Protocol::Ah);
    match is_ah {
        true => {
            record.plan(Field::SaProtocol, Protocol::Ah);
            record.plan(Field::AhProposals, child.esp.value.clone());
        }
        false => record.plan(Field::EspProposals, child.esp.value.clone()),
    }
    record.plan_some(Field::Narrowing, child.narrowing.value);
    record.plan(Field::Pfs, pfs(child)?);
    record.plan(Field::SequenceNumbers, sequence_numbers(child)?);
    record.plan(Field::Mode, child.mode.value);
    record.plan(Field::EspHardLife, child.lifetime.value.hard);
    record.plan(Field::Opening, child.opening.value);
    record.plan_some(Field::OnDeadPeer, child.on_dead_peer.value);
    record.plan(Field::Dscp, child.dscp.value);
    record.plan(Field::ReplayWindow, child.replay_window.value);
    Ok(record)
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

/// PFS is switched for all proposals of a connection, and they share one group.
fn pfs(child: &Child) -> Result<bool, Unwritable> {
    let proposals = &child.esp.value;
    let first = proposals.first().map(|p| p.of(Kind::KeyExchange)).unwrap_or_default();
    if first.len() > 1 || proposals.iter().any(|p| p.of(Kind::KeyExchange) != first) {
        return Err(Unwritable::new(
            "ESP proposals with different PFS groups, while Libreswan takes one for all",
            "Use the same group in all ESP proposals.",
        ));
    }
    Ok(!first.is_empty())
}

/// The length of the sequence numbers of all proposals of a connection; 0 where either will do.
fn sequence_numbers(child: &Child) -> Result<u32, Unwritable> {
    let [long, short] = [true, false].map(Transform::sequence_numbers);
    let mut each = child.esp.value.iter().map(|proposal| proposal.of(Kind::SequenceNumbers));
    let first = each.next().unwrap_or_default();
    let bits = match first {
        [one] if *one == long => Some(64),
        [one] if *one == short => Some(32),
        [one, other] if [*one, *other] == [long, short] => Some(0),
        _ => None,
    };
    bits.filter(|_| each.all(|other| other == first)).ok_or_else(|| {
        Unwritable::new("ESP proposals that differ in sequence numbers, while Libreswan has one setting for all", "Say the same in all.")
    })
}

fn write_secrets(secrets: &[SharedSecret], remarks: &Remarks) -> Result<String, Unwritable> {
    let mut out = Draft::of_secrets(&remarks.head);
    remark(&mut out, "", &remarks.secret);
    for entry in secrets {
        for id in &entry.identities {
            out.push_str(&identity_text(id)?);
            out.push(' ');
        }
        // Hexadecimal: the same bytes for every daemon, whatever characters the secret has.
        out.push_str(": PSK 0x");
        out.push_str(&entry.secret.to_hex());
        out.push('\n');
    }
    Ok(out.into_text())
}
