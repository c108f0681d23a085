//! Writes a gateway as swanctl.conf(5) snippets: one for connections, one (0600) for secrets.

use std::fmt::Write as _;
use std::time::Duration;

use super::proposal;
use super::syntax::quote;
use super::{AGGRESSIVE_SWITCH, AUTHORITIES, CERTIFICATES, FOLDER, PRIVATE_KEYS, PUBLIC_KEYS, SWITCHES};
use crate::address_text;
use crate::dialect::{Remarks, Unwritable};
use crate::dialect::{head, remark};
use crate::gateway::{
    Child, Connection, Dscp, Encapsulation, Exchange, Gateway, Identity, IkeVersion, KeyPair, Lifetime, Method, Mode, OnDeadPeer, Opening,
    SharedSecret, Tree, TreeFile,
};
use crate::platform::{Profile, v1_patience};

type WriteResult = Result<(), Vec<Unwritable>>;

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    if gateway.connections.iter().any(|connection| connection.ike().exchange.value == Exchange::V1Aggressive) {
        tree.add(SWITCHES, TreeFile::shared(AGGRESSIVE_SWITCH.to_owned()));
    }
    let mut out = head(&remarks.head);
    out.push_str("connections {\n");
    for connection in &gateway.connections {
        write_connection(profile, &mut out, connection, remarks)?;
    }
    out.push_str("}\n");
    tree.add(format!("{FOLDER}/{}.conf", remarks.stem), TreeFile::public(out));
    if !gateway.secrets.is_empty() {
        let secrets = write_secrets(&gateway.secrets, remarks).map_err(|e| vec![e])?;
        // The dot keeps it apart from a tunnel that is called `...-secrets`: names have none.
        tree.add(format!("{FOLDER}/{}.secrets.conf", remarks.stem), TreeFile::private(secrets));
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

/// An identity with the type prefix that keeps the daemon from guessing.
fn identity(identity: &Identity) -> Result<String, Unwritable> {
    quote(&match identity {
        Identity::Anybody | Identity::Implied(_) => return Err(Unwritable::no_identity()),
        Identity::Address(address) => address_text::address(*address),
        Identity::Name(name) => format!("fqdn:{name}"),
        Identity::Mail(name) => format!("rfc822:{name}"),
        Identity::Free(name) => format!("keyid:{name}"),
        // The equals signs tell the kind.
        Identity::Subject(subject) => subject.to_string(),
    })
}

fn name(name: &str) -> Result<&str, Unwritable> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b == b'-' || b == b'_';
    if !name.is_empty() && name.bytes().all(plain) {
        Ok(name)
    } else {
        Err(Unwritable::new("a section name with other characters than letters, digits, `-` and `_`", "Choose a plain name."))
    }
}

fn seconds(duration: Duration) -> String {
    format!("{}s", duration.as_secs())
}

fn rekey_time(lifetime: Lifetime) -> Result<String, Vec<Unwritable>> {
    if lifetime.soft().is_zero() {
        return Err(vec![Unwritable::new("a lifetime that is not longer than its margin", "Choose a longer lifetime.")]);
    }
    Ok(seconds(lifetime.soft()))
}

fn joined<T>(items: &[T], spell: impl Fn(&T) -> Result<String, Unwritable>) -> Result<String, Vec<Unwritable>> {
    let (mut words, mut refused) = (Vec::new(), Vec::new());
    for item in items {
        match spell(item) {
            Ok(word) => words.push(word),
            Err(why) => refused.push(why),
        }
    }
    if refused.is_empty() { Ok(words.join(", ")) } else { Err(refused) }
}

fn write_connection(profile: &Profile, out: &mut String, connection: &Connection, remarks: &Remarks) -> WriteResult {
    let version = match connection.version() {
        IkeVersion::V1 => 1,
        IkeVersion::V2 => 2,
    };
    let _ = writeln!(out, "  {} {{\n    version = {version}", name(&connection.name).map_err(|e| vec![e])?);
    if connection.ike().exchange.value == Exchange::V1Aggressive {
        let _ = writeln!(out, "    aggressive = yes");
    }
    remark(out, "    ", &remarks.addresses);
    let [local, remote] = [&connection.local, &connection.remote].map(|end| address_text::endpoint(&end.value, "%any"));
    out.extend(["    local_addrs = ", &local, "\n    remote_addrs = ", &remote, "\n"]);
    match connection.encapsulation.value {
        Encapsulation::Automatic => {}
        Encapsulation::Forced => out.push_str("    encap = yes\n"),
        Encapsulation::Off => {
            return Err(vec![Unwritable::new("ESP never in UDP, which strongSwan decides for the whole daemon", "Leave it automatic.")]);
        }
    }
    remark(out, "    ", &remarks.ike);
    let _ = writeln!(out, "    proposals = {}", joined(&connection.ike().proposals.value, |one| proposal::write(profile, one))?);
    remark(out, "    ", &remarks.ike_lifetime);
    let life = connection.ike().lifetime.value;
    let _ = writeln!(out, "    rekey_time = {}\n    over_time = {}", rekey_time(life)?, seconds(life.margin));
    if let Some(id) = connection.interface.value {
        remark(out, "    ", &remarks.routes);
        let _ = writeln!(out, "    if_id_in = {id}\n    if_id_out = {id}");
    }
    if let Some(interval) = connection.ike().liveness.value {
        remark(out, "    ", &remarks.liveness);
        let _ = writeln!(out, "    dpd_delay = {}", seconds(interval));
        if connection.version() == IkeVersion::V1 {
            let _ = writeln!(out, "    dpd_timeout = {}", seconds(v1_patience(interval)));
        }
    }
    if connection.ike().persistent.value {
        let _ = writeln!(out, "    # 0: try for ever to reach the peer\n    keyingtries = 0");
    }
    if connection.ike().local_method.value == Method::Certificate {
        // Some peers do not ask for it.
        out.push_str("    send_cert = always\n");
    }
    remark(out, "    ", &remarks.identities);
    for (end, id) in [("local", &connection.ike().local_identity.value), ("remote", &connection.ike().remote_identity.value)] {
        let id = identity(id).map_err(|e| vec![e])?;
        let method = if end == "local" { connection.ike().local_method.value } else { connection.ike().remote_method.value };
        let auth = match method {
            Method::SharedSecret => "psk".to_owned(),
            Method::PublicKey => format!("pubkey\n      pubkeys = {}", key_file(&remarks.stem, end)),
            // What it shows itself, and whom it believes about the peer.
            Method::Certificate if end == "local" => format!("pubkey\n      certs = {}", key_file(&remarks.stem, end)),
            Method::Certificate => format!("pubkey\n      cacerts = {}", key_file(&remarks.stem, end)),
        };
        let _ = writeln!(out, "    {end} {{\n      auth = {auth}\n      id = {id}\n    }}");
    }
    out.push_str("    children {\n");
    for (i, child) in connection.children.iter().enumerate() {
        write_child(profile, out, child, remarks, remarks.selectors.get(i).map_or("", String::as_str))?;
    }
    out.push_str("    }\n  }\n");
    Ok(())
}

fn write_child(profile: &Profile, out: &mut String, child: &Child, remarks: &Remarks, selectors: &str) -> WriteResult {
    let _ = writeln!(out, "      {} {{", name(&child.name).map_err(|e| vec![e])?);
    remark(out, "        ", selectors);
    let limited = child.protocol.value.map_or(String::new(), |protocol| format!("[{protocol}]"));
    let prefixes = |list: &[ipnet::IpNet]| list.iter().map(|net| address_text::prefix(*net) + &limited).collect::<Vec<_>>().join(", ");
    let _ = writeln!(out, "        local_ts = {}\n        remote_ts = {}", prefixes(&child.local.value), prefixes(&child.remote.value));
    remark(out, "        ", &remarks.esp);
    let _ = writeln!(out, "        esp_proposals = {}", joined(&child.esp.value, |one| proposal::write(profile, one))?);
    let mode = match child.mode.value {
        Mode::Tunnel => "tunnel",
        Mode::Transport => "transport",
    };
    let _ = writeln!(out, "        mode = {mode}");
    remark(out, "        ", &remarks.esp_lifetime);
    let life = child.lifetime.value;
    let _ = writeln!(out, "        rekey_time = {}\n        life_time = {}", rekey_time(life)?, seconds(life.hard));
    remark(out, "        ", &remarks.opening);
    // `trap` beside `start` keeps packets from leaving in clear while the tunnel is down.
    let opening = match child.opening.value {
        Opening::BOTH => "trap|start",
        Opening::START => "start",
        Opening::TRAP => "trap",
        Opening::WAIT => "none",
    };
    let dead = match child.on_dead_peer.value {
        Some(OnDeadPeer::Reopen) => Some("restart"),
        Some(OnDeadPeer::AwaitTraffic) => Some("trap"),
        Some(OnDeadPeer::Forget) => Some("clear"),
        None => None,
    };
    let _ = writeln!(out, "        start_action = {opening}");
    if let Some(dead) = dead {
        let _ = writeln!(out, "        dpd_action = {dead}");
    }
    let dscp = match child.dscp.value {
        Dscp::Outwards => None,
        Dscp::Both => Some("yes"),
        Dscp::Never => Some("no"),
    };
    if let Some(dscp) = dscp {
        let _ = writeln!(out, "        copy_dscp = {dscp}");
    }
    let _ = writeln!(out, "        replay_window = {}\n      }}", child.replay_window.value);
    Ok(())
}

fn write_secrets(secrets: &[SharedSecret], remarks: &Remarks) -> Result<String, Unwritable> {
    let mut out = head(&remarks.head);
    out.push_str("secrets {\n");
    for (i, entry) in secrets.iter().enumerate() {
        let suffix = if i == 0 { String::new() } else { format!("-{}", i + 1) };
        let _ = writeln!(out, "  ike-{}{suffix} {{", name(&remarks.stem)?);
        for (i, id) in entry.identities.iter().enumerate() {
            let _ = writeln!(out, "    id-{} = {}", i + 1, identity(id)?);
        }
        remark(&mut out, "    ", &remarks.secret);
        // Hexadecimal: the same bytes for every daemon, whatever characters the secret has.
        out.push_str("    secret = 0x");
        out.push_str(&entry.secret.to_hex());
        out.push_str("\n  }\n");
    }
    out.push_str("}\n");
    Ok(out)
}
