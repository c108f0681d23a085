//! Writes the parameters of a gateway as a list.

use ipnet::IpNet;

use super::path;
use crate::dialect::{Draft, Remarks, Unwritable};
use crate::profile::Profile;
use crate::profile::statement::{Field, LineLayout, ProtocolPort, Record, Section, Selector, write_section};
use uspan_model::gateway::{Child, Connection, Exchange, Gateway, Tree};

pub(super) fn write(profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut out = Draft::new(&remarks.head);
    for connection in &gateway.connections {
        let ike = connection.ike();
        if ike.local_method.value != ike.remote_method.value {
            return Err(vec![Unwritable::new("two ways of authentication, of which a list has one for both ends", "Use one for both.")]);
        }
        let layout = |child| LineLayout { indent: "", between: ": ", remarks, child };
        out.extend(["\n[tunnel ", &connection.name, "]\n"]);
        write_section(&mut out, profile, Section::Connection, &of_connection(connection), &layout(0))?;
        for (at, child) in connection.children.iter().enumerate() {
            out.extend(["\n[SA ", &child.name, "]\n"]);
            write_section(&mut out, profile, Section::Child, &of_child(child)?, &layout(at))?;
        }
    }
    let mut tree = Tree::default();
    tree.add(path(&remarks.stem), out.public());
    Ok(tree)
}

fn of_connection(connection: &Connection) -> Record {
    let (mut record, ike) = (Record::default(), connection.ike());
    record.plan(Field::LocalAddress, connection.local.value.clone());
    record.plan(Field::RemoteAddress, connection.remote.value.clone());
    record.plan(Field::LocalIdentity, ike.local_identity.value.clone());
    record.plan(Field::RemoteIdentity, ike.remote_identity.value.clone());
    record.plan(Field::LocalMethod, ike.local_method.value);
    record.plan(Field::Version, ike.exchange.value.version());
    record.plan(Field::Aggressive, ike.exchange.value == Exchange::V1Aggressive);
    record.plan(Field::IkeProposals, ike.proposals.value.clone());
    record.plan(Field::IkeHardLife, ike.lifetime.value.hard);
    record.plan(Field::IkeSoftLife, ike.lifetime.value.soft());
    record.plan(Field::Encapsulation, connection.encapsulation.value);
    record.plan_some(Field::Liveness, ike.liveness.value);
    record.plan_some(Field::InterfaceOut, connection.interface.value);
    record.plan(Field::Tries, u32::from(!ike.persistent.value));
    record
}

fn of_child(child: &Child) -> Result<Record, Vec<Unwritable>> {
    let mut record = Record::default();
    let selectors =
        |nets: &[IpNet]| -> Vec<Selector> { nets.iter().map(|net| Selector { net: Some(*net), protocol: None, port: None }).collect() };
    if child.narrowing.value.is_some() {
        return Err(vec![Unwritable::new("narrowing, which a list of parameters has no word for", "Leave it out.")]);
    }
    record.plan(Field::LocalSelectors, selectors(&child.local.value));
    record.plan(Field::RemoteSelectors, selectors(&child.remote.value));
    for (field, port) in [Field::LocalProtocol, Field::RemoteProtocol].into_iter().zip(child.ports.value) {
        record.plan_some(field, child.protocol.value.map(|protocol| ProtocolPort { protocol, port }));
    }
    record.plan(Field::Mode, child.mode.value);
    record.plan(Field::EspProposals, child.esp.value.clone());
    record.plan(Field::EspHardLife, child.lifetime.value.hard);
    record.plan(Field::EspSoftLife, child.lifetime.value.soft());
    record.plan(Field::Opening, child.opening.value);
    record.plan_some(Field::OnDeadPeer, child.on_dead_peer.value);
    record.plan(Field::ReplayWindow, child.replay_window.value);
    record.plan(Field::Dscp, child.dscp.value);
    Ok(record)
}
