//! Writes a gateway as swanctl.conf(5) snippets: one for connections, one (0600) for secrets.

use std::fmt::Write as _;

use ipnet::IpNet;

use super::statements::{identity_text, patience};
use super::{AGGRESSIVE_SWITCH, AUTHORITIES, CERTIFICATES, FOLDER, PRIVATE_KEYS, PUBLIC_KEYS, SWITCHES};
use crate::dialect::{Draft, Remarks, Unwritable, remark};
use crate::profile::Profile;
use crate::profile::statement::{Field, LineLayout, Record, Section, Selector, write_section};
use uspan_model::gateway::{
    Child, Connection, Endpoint, Exchange, Gateway, Identity, KeyPair, Method, Mode, Protocol, SharedSecret, Tree, TreeFile,
};

/// How often it tries to reach a peer where nothing is said (swanctl.conf(5), `keyingtries`).
const TRIES: u32 = 1;

type WriteResult = Result<(), Vec<Unwritable>>;

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    if gateway.connections.iter().any(|connection| connection.ike().exchange.value == Exchange::V1Aggressive) {
        tree.add(SWITCHES, TreeFile::shared(AGGRESSIVE_SWITCH.to_owned()));
    }
    let mut out = Draft::new(&remarks.head);
    out.push_str("connections {\n");
    for connection in &gateway.connections {
        write_connection(profile, &mut out, connection, remarks)?;
    }
    out.push_str("}\n");
    tree.add([FOLDER, "/", &remarks.stem, ".conf"].concat(), out.public());
    if !gateway.secrets.is_empty() {
        let secrets = write_secrets(&gateway.secrets, remarks).map_err(|e| vec![e])?;
        // The dot keeps it apart from a tunnel that is called `...-secrets`: names have none.
        tree.add([FOLDER, "/", &remarks.stem, ".secrets.conf"].concat(), TreeFile::private(secrets));
    }
    if gateway.key_pairs.len() > 1 || gateway.pinned.len() > 1 || gateway.authorities.len() > 1 {
        return Err(vec![Unwritable::new("several keys of one end", "Give each end one key.")]);
    }
    write_keys(&mut tree, gateway, &remarks.stem);
    Ok(tree)
}

/// The name of a file with a key or a certificate, of the gateway's own or the peer's.
fn key_file(stem: &str, end: &str) -> String {
    format!("uspan-{stem}-{end}.pem")
}

fn write_keys(tree: &mut Tree, gateway: &Gateway, stem: &str) {
    for certificate in gateway.key_pairs.iter().filter_map(|pair| pair.certificate.as_ref()) {
        tree.add(format!("{CERTIFICATES}/{}", key_file(stem, "local")), TreeFile::public(certificate.pem().to_owned()));
    }
    for authority in &gateway.authorities {
        tree.add(format!("{AUTHORITIES}/{}", key_file(stem, "remote")), TreeFile::public(authority.pem().to_owned()));
    }
    let own = gateway.key_pairs.iter().filter(|pair| pair.certificate.is_none()).map(|pair| (&pair.public, "local"));
    for (public, end) in own.chain(gateway.pinned.iter().map(|pinned| (&pinned.public, "remote"))) {
        tree.add(format!("{PUBLIC_KEYS}/{}", key_file(stem, end)), TreeFile::public(public.pem().to_owned()));
    }
    for text in gateway.key_pairs.iter().filter_map(KeyPair::private_text) {
        tree.add(format!("{PRIVATE_KEYS}/{}", key_file(stem, "local")), TreeFile::private(text));
    }
}

fn name(name: &str) -> Result<&str, Unwritable> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b == b'-' || b == b'_';
    if !name.is_empty() && name.bytes().all(plain) {
        Ok(name)
    } else {
        Err(Unwritable::new("a section name with other characters than letters, digits, `-` and `_`", "Choose a plain name."))
    }
}

fn write_connection(profile: &Profile, out: &mut Draft, connection: &Connection, remarks: &Remarks) -> WriteResult {
    let layout = |indent, child| LineLayout { indent, between: " = ", remarks, child };
    let ike = connection.ike();
    if ike.lifetime.value.soft().is_zero() {
        return Err(vec![too_short()]);
    }
    out.extend(["  ", name(&connection.name).map_err(|e| vec![e])?, " {\n"]);
    write_section(out, profile, Section::Connection, &of_connection(connection), &layout("    ", 0))?;
    remark(out, "    ", &remarks.identities);
    for (section, word, record) in [
        (Section::LocalEnd, "local", of_end(&ike.local_method.value, &ike.local_identity.value, &remarks.stem, LOCAL)),
        (Section::RemoteEnd, "remote", of_end(&ike.remote_method.value, &ike.remote_identity.value, &remarks.stem, REMOTE)),
    ] {
        out.extend(["    ", word, " {\n"]);
        write_section(out, profile, section, &record, &layout("      ", 0))?;
        out.push_str("    }\n");
    }
    out.push_str("    children {\n");
    for (i, child) in connection.children.iter().enumerate() {
        if child.lifetime.value.soft().is_zero() {
            return Err(vec![too_short()]);
        }
        out.extend(["      ", name(&child.name).map_err(|e| vec![e])?, " {\n"]);
        write_section(out, profile, Section::Child, &of_child(child), &layout("        ", i))?;
        out.push_str("      }\n");
    }
    out.push_str("    }\n  }\n");
    Ok(())
}

fn too_short() -> Unwritable {
    Unwritable::new("a lifetime that is not longer than its margin", "Choose a longer lifetime.")
}

fn of_connection(connection: &Connection) -> Record {
    let (mut record, ike) = (Record::default(), connection.ike());
    record.plan(Field::Version, ike.exchange.value.version());
    record.plan(Field::Aggressive, ike.exchange.value == Exchange::V1Aggressive);
    record.plan(Field::LocalAddress, connection.local.value.clone());
    record.plan(Field::RemoteAddress, connection.remote.value.clone());
    record.plan(Field::Encapsulation, connection.encapsulation.value);
    record.plan(Field::IkeProposals, ike.proposals.value.clone());
    record.plan(Field::IkeSoftLife, ike.lifetime.value.soft());
    record.plan(Field::IkeMargin, ike.lifetime.value.margin);
    record.plan_some(Field::InterfaceIn, connection.interface.value);
    record.plan_some(Field::InterfaceOut, connection.interface.value);
    record.plan_some(Field::Liveness, ike.liveness.value);
    record.plan_some(Field::Patience, patience(ike.exchange.value.version(), ike.liveness.value));
    record.plan(Field::Tries, if ike.persistent.value { 0u32 } else { TRIES });
    record.plan_some(Field::OffersMobility, is_fixed(connection).then_some(false));
    record.plan_some(Field::ShowsCertificate, (ike.local_method.value == Method::Certificate).then_some(true));
    record
}

/// Whether no address of the tunnel can change: a peer is not told of further ones then, and IKE stays at port 500 without a NAT device.
/// Outside of tunnel mode there is nothing to move (RFC 4555 section 1.2).
fn is_fixed(connection: &Connection) -> bool {
    let fixed = [&connection.local, &connection.remote].iter().all(|end| matches!(end.value, Endpoint::At(_)));
    let tunnels = connection.children.iter().all(|child| child.mode.value == Mode::Tunnel);
    connection.ike().exchange.value == Exchange::V2 && (fixed || !tunnels)
}

/// The files that an end names where it signs, and the fields that name them: with a bare key, and with a certificate.
type EndFields = [Field; 4];
const LOCAL: EndFields = [Field::LocalMethod, Field::LocalIdentity, Field::LocalKey, Field::LocalCertificate];
const REMOTE: EndFields = [Field::RemoteMethod, Field::RemoteIdentity, Field::RemoteKey, Field::Authority];

fn of_end(method: &Method, identity: &Identity, stem: &str, [how, who, key, certificate]: EndFields) -> Record {
    let mut record = Record::default();
    let file = || key_file(stem, if how == Field::LocalMethod { "local" } else { "remote" });
    record.plan(how, *method);
    record.plan(who, identity.clone());
    match method {
        Method::SharedSecret => {}
        Method::PublicKey => record.plan(key, file()),
        // What it shows itself, and whom it believes about the peer.
        Method::Certificate => record.plan(certificate, file()),
    }
    record
}

fn of_child(child: &Child) -> Record {
    let mut record = Record::default();
    let selectors = |nets: &[IpNet], port| -> Vec<Selector> {
        nets.iter().map(|net| Selector { net: Some(*net), protocol: child.protocol.value, port }).collect()
    };
    let [own, far] = child.ports.value;
    record.plan(Field::LocalSelectors, selectors(&child.local.value, own));
    record.plan(Field::RemoteSelectors, selectors(&child.remote.value, far));
    let (ah, esp): (Vec<_>, Vec<_>) = child.esp.value.iter().cloned().partition(|proposal| proposal.protocol == Protocol::Ah);
    for (field, list) in [(Field::EspProposals, esp), (Field::AhProposals, ah)] {
        record.plan_some(field, (!list.is_empty()).then_some(list));
    }
    record.plan(Field::Mode, child.mode.value);
    record.plan(Field::EspSoftLife, child.lifetime.value.soft());
    record.plan(Field::EspHardLife, child.lifetime.value.hard);
    record.plan(Field::Opening, child.opening.value);
    record.plan_some(Field::OnDeadPeer, child.on_dead_peer.value);
    record.plan(Field::Dscp, child.dscp.value);
    record.plan(Field::ReplayWindow, child.replay_window.value);
    record
}

fn write_secrets(secrets: &[SharedSecret], remarks: &Remarks) -> Result<String, Unwritable> {
    let mut out = Draft::of_secrets(&remarks.head);
    out.push_str("secrets {\n");
    for (i, entry) in secrets.iter().enumerate() {
        let suffix = if i == 0 { String::new() } else { format!("-{}", i + 1) };
        let _ = writeln!(out, "  ike-{}{suffix} {{", name(&remarks.stem)?);
        for (i, id) in entry.identities.iter().enumerate() {
            let _ = writeln!(out, "    id-{} = {}", i + 1, identity_text(id)?);
        }
        remark(&mut out, "    ", &remarks.secret);
        // Hexadecimal: the same bytes for every daemon, whatever characters the secret has.
        out.push_str("    secret = 0x");
        out.push_str(&entry.secret.to_hex());
        out.push_str("\n  }\n");
    }
    out.push_str("}\n");
    Ok(out.into_text())
}
