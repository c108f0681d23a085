//! Writes a gateway as iked.conf(5) policies (0600: the secret stands in them) and the main file that includes them.

use std::fmt::Write as _;

use super::syntax::{BETWEEN, quote};
use super::{AUTHORITIES, FOLDER, IKE_EARLY, MAIN, OWN_CERTIFICATE, OWN_PRIVATE, OWN_PUBLIC, margin, peer_key};
use crate::dialect::{Draft, remark};
use crate::dialect::{Remarks, Unwritable};
use crate::profile::Profile;
use crate::profile::statement::{Field, ProtocolPort, Record, Section, spelled_section};
use crate::text::authority_name;
use uspan_model::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Lifetime, Method, OnDeadPeer, Tree, TreeFile,
};

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut out = Draft::new(&remarks.head);
    for connection in &gateway.connections {
        policy(profile, &mut out, gateway, connection, remarks)?;
    }
    let mut tree = Tree::default();
    tree.add(format!("{FOLDER}/{}.conf", remarks.stem), TreeFile::private(out.into_text()));
    tree.add(MAIN, TreeFile::shared(main_file(profile, gateway, remarks)?));
    if let [pair] = gateway.key_pairs.as_slice() {
        // All tunnels write the same lines.
        tree.add(OWN_PUBLIC, TreeFile::shared(pair.public.pem().to_owned()));
        if let Some(certificate) = &pair.certificate {
            tree.add(OWN_CERTIFICATE, TreeFile::common(certificate.pem().to_owned()));
        }
        if let Some(text) = pair.private_text() {
            tree.add(OWN_PRIVATE, TreeFile::shared(text));
        }
    }
    for authority in &gateway.authorities {
        tree.add(format!("{AUTHORITIES}/{}.crt", authority_name(authority)), TreeFile::common(authority.pem().to_owned()));
    }
    for pinned in &gateway.pinned {
        tree.add(peer_key(&pinned.identity), TreeFile::public(pinned.public.pem().to_owned()));
    }
    Ok(tree)
}

/// What holds for the whole daemon, then the tunnels. Several tunnels of a gateway write the same lines but for
/// their own `include`.
fn main_file(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<String, Vec<Unwritable>> {
    let one = |refused: Unwritable| vec![refused];
    let mut out = Draft::new(remarks.head.get(1..2).unwrap_or_default());
    let mut intervals: Vec<_> = gateway.connections.iter().map(|connection| connection.ike().liveness.value).collect();
    intervals.dedup();
    let [interval] = intervals.as_slice() else {
        return Err(one(Unwritable::new(
            "different liveness intervals, while OpenIKED has one for the whole daemon",
            "Use the same interval.",
        )));
    };
    let mut record = Record::default();
    record.plan(Field::Liveness, interval.unwrap_or_default());
    for (row, text) in spelled_section(profile, Section::Daemon, &record)? {
        let _ = writeln!(out, "set {} {text}", row.keyword);
    }
    // A peer that lost its SAs and comes again takes the place of the old one at once.
    out.push_str("set enforcesingleikesa\n");
    let _ = writeln!(out, "include {}", quote(&format!("/{FOLDER}/{}.conf", remarks.stem)).map_err(one)?);
    Ok(out.into_text())
}

fn policy(
    profile: &Profile,
    out: &mut Draft,
    gateway: &Gateway,
    connection: &Connection,
    remarks: &Remarks,
) -> Result<(), Vec<Unwritable>> {
    let one = |refused: Unwritable| vec![refused];
    let [child] = connection.children.as_slice() else {
        return Err(one(Unwritable::new(
            "several Child SAs for one peer: with two of them OpenIKED sends all answers on the newest",
            "Carry everything in one Child SA.",
        )));
    };
    let name = expressible(connection, child).map_err(one)?;
    for text in [&remarks.addresses, &remarks.identities, &remarks.ike, &remarks.esp, &remarks.ike_lifetime, &remarks.esp_lifetime] {
        remark(out, "", text);
    }
    remark(out, "", &remarks.opening);
    remark(out, "", &remarks.secret);
    remarks.selectors.iter().for_each(|text| remark(out, "", text));
    let spelled = spelled_section(profile, Section::Connection, &of_policy(connection, child))?;
    let mut head = format!("ikev2 {}", quote(name).map_err(one)?);
    let mut lines: Vec<String> = Vec::new();
    for (row, text) in spelled {
        match (&*row.keyword, row.field().map(|(field, _)| field)) {
            (keyword, Some(Field::Opening | Field::Mode)) => head.extend([" ", keyword]),
            (keyword @ ("dstid" | "lifetime"), _) => {
                if let Some(line) = lines.last_mut() {
                    line.extend([" ", keyword, " ", &text]);
                }
            }
            (keyword, _) if text.is_empty() => lines.push(keyword.to_owned()),
            (keyword, Some(Field::Pairs)) => {
                let [own, far] = child.ports.value.map(|port| port.map_or_else(String::new, |port| format!(" port {port}")));
                let ends = text.split(BETWEEN).filter_map(|item| item.split_once(" to "));
                lines.extend(ends.map(|(from, to)| format!("{keyword} {from}{own} to {to}{far}")));
            }
            (keyword, Some(Field::IkeProposals | Field::EspProposals)) => {
                lines.extend(text.split(BETWEEN).map(|item| format!("{keyword} {item}")));
            }
            (keyword, _) => lines.push(format!("{keyword} {text}")),
        }
    }
    out.push_str(&head);
    out.push_str(" esp");
    for line in lines {
        out.extend([" \\\n\t", &line]);
    }
    if connection.ike().local_method.value == Method::SharedSecret {
        let secret = gateway.secret_for(connection).ok_or_else(|| one(Unwritable::new("a peer without a secret", "Give it one.")))?;
        // Hexadecimal: the same bytes for every daemon, whatever characters the secret has.
        out.push_str(" \\\n\tpsk 0x");
        out.push_str(&secret.to_hex());
    }
    out.push('\n');
    Ok(())
}

/// What the statements of a policy are to say.
fn of_policy(connection: &Connection, child: &Child) -> Record {
    let (ike, mut record) = (connection.ike(), Record::default());
    record.plan(Field::Opening, child.opening.value);
    record.plan(Field::Mode, child.mode.value);
    record.plan_some(Field::LocalProtocol, child.protocol.value.map(|protocol| ProtocolPort { protocol, port: None }));
    let remotes = || child.remote.value.iter().copied().map(Some);
    let pairs: Vec<_> = child.local.value.iter().flat_map(|local| remotes().map(|remote| [Some(*local), remote])).collect();
    record.plan(Field::Pairs, pairs);
    record.plan(Field::LocalAddress, connection.local.value.clone());
    record.plan(Field::RemoteAddress, connection.remote.value.clone());
    record.plan(Field::IkeProposals, ike.proposals.value.clone());
    record.plan(Field::EspProposals, child.esp.value.clone());
    record.plan(Field::LocalIdentity, ike.local_identity.value.clone());
    record.plan(Field::RemoteIdentity, ike.remote_identity.value.clone());
    record.plan(Field::IkeSoftLife, ike.lifetime.value.hard - IKE_EARLY);
    record.plan(Field::EspHardLife, child.lifetime.value.hard);
    record.plan_some(Field::LocalMethod, (ike.local_method.value != Method::SharedSecret).then_some(Method::PublicKey));
    record
}

/// What a policy cannot say of a connection; otherwise the policy's name.
fn expressible<'a>(connection: &'a Connection, child: &Child) -> Result<&'a str, Unwritable> {
    let refuse = |what: &str, remedy: &str| Err(Unwritable::new(what, remedy));
    if connection.ike().exchange.value != Exchange::V2 {
        return refuse("IKEv1, which OpenIKED does not speak", "Use IKEv2.");
    }
    if connection.ike().local_method.value != connection.ike().remote_method.value {
        return refuse("ends that prove themselves in different ways", "Use the same for both.");
    }
    if connection.interface.value.is_some() {
        return refuse("a tunnel interface, which OpenIKED does not have on Linux", "Let the selectors steer.");
    }
    if connection.encapsulation.value != Encapsulation::Automatic {
        return refuse("ESP in UDP for one peer, which OpenIKED decides for the whole daemon", "Leave it automatic.");
    }
    if [&connection.local, &connection.remote].iter().any(|end| matches!(end.value, Endpoint::OneOf(_) | Endpoint::Within(_))) {
        return refuse("an end at one of several addresses, while OpenIKED has one", "Write one address, or any.");
    }
    let outside = [&connection.local, &connection.remote].into_iter().find_map(|end| end.value.address());
    let mut nets = child.local.value.iter().chain(&child.remote.value);
    if outside.is_some_and(|outside| nets.any(|net| net.addr().is_ipv4() != outside.is_ipv4())) {
        return refuse(
            "networks of another address family than the gateways', whose packets do not get into OpenIKED's SAs on Linux",
            "Put them into GRE with `carrier = \"gre\"`, or give the gateways addresses of the family of their networks.",
        );
    }
    if child.name != format!("{}_all", connection.name) {
        return refuse("a Child SA with a name of its own", "Name it after the connection.");
    }
    let at_once = child.opening.value.start;
    if child.opening.value.trap {
        return refuse("opening on traffic, which OpenIKED cannot do", "Let it open at once, or let the other end open.");
    }
    if connection.ike().persistent.value != at_once {
        return refuse("an end that opens but gives up, or the other way round", "Let it try for ever.");
    }
    let reaction = connection.ike().liveness.value.map(|_| if at_once { OnDeadPeer::Reopen } else { OnDeadPeer::Forget });
    if child.on_dead_peer.value != reaction {
        return refuse("another answer to a dead peer than its mode gives", "Let an end that opens reopen, and the other one forget.");
    }
    if child.dscp.value != Dscp::Outwards {
        return refuse("another use of the DSCP than copying it outwards", "Leave it at that.");
    }
    if child.replay_window.value != super::profile::default::REPLAY_WINDOW {
        return refuse("a replay window, which OpenIKED cannot set", "Leave it at 32 packets.");
    }
    let (ike, esp) = (connection.ike().lifetime.value, child.lifetime.value);
    let wanted = margin(ike.hard, esp.hard);
    if [ike, esp].iter().any(|life: &Lifetime| life.margin != wanted) || ike.hard <= IKE_EARLY {
        return refuse("rekey margins of its own, while OpenIKED chooses them", "Use a tenth of the shorter life.");
    }
    Ok(&connection.name)
}
