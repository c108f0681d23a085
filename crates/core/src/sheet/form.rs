//! The sheet for the party that owns the other end: only what it needs, in neutral words and the names of the IANA registries,
//! with a blank beside each value.
//!
//! What platform the other party has need not be known: nothing here is spelled as a platform spells it.

use super::handover::{Handover, handovers};
use super::{proposal_words, registered};
use crate::build::BuiltTunnel;
use uspan_description::agreement::Bundle;
use uspan_description::check::Supplied;
use uspan_description::description::{Address, Description, Site, Tunnel};
use uspan_model::algorithm::Kind;
use uspan_model::duration::duration_words;
use uspan_model::gateway::{Encapsulation, Endpoint, IkeVersion, Method, Passing};

/// The sheet for one end's owner.
#[derive(Clone, Debug)]
pub struct Form {
    /// The tunnel's name.
    pub tunnel: String,
    /// The site that is the reader's.
    pub theirs: String,
    /// The site that is the writer's.
    pub ours: String,
    /// What people call the reader's site, and the writer's.
    pub titles: [String; 2],
    /// What they must know of our end.
    pub about_us: Vec<(&'static str, Vec<String>)>,
    /// What they confirm or correct.
    pub fields: Vec<FormField>,
    /// What their gateway must let pass, and must not touch.
    pub needs: Vec<String>,
    /// What goes from hand to hand.
    pub handovers: Vec<Handover>,
}

/// A value to confirm or correct.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FormField {
    /// Which one: what a filled-in sheet is read by.
    pub code: String,
    /// What it is.
    pub what: String,
    /// As the description has it.
    pub proposed: String,
}

/// Keys of a tunnel that are lists of proposals; the codes of their fields begin with them.
pub(super) const IKE: &str = "ike";
pub(super) const LISTS: [&str; 2] = [IKE, "esp"];

/// Fields that are for people.
pub(super) const REMARKS: [&str; 4] = ["contact", "ticket", "valid-until", "traffic-limit"];

/// How several pairs of networks travel, as the sheet has it.
pub(super) const PER_PAIR: &str = "one for each pair";
pub(super) const TOGETHER: &str = "one for all";

impl FormField {
    /// The list of proposals that it is one of.
    pub(super) fn list(&self) -> Option<&'static str> {
        Some(in_list(&self.code)?.0)
    }
}

/// The list of proposals that the field of a code is one of, and what stands behind it.
pub(super) fn in_list(code: &str) -> Option<(&'static str, &str)> {
    let (head, number) = code.split_once(' ')?;
    Some((LISTS.into_iter().find(|list| *list == head)?, number))
}

/// The form for the owner of an end; nothing where the tunnel is none of the description's.
pub fn form(description: &Description, built: &BuiltTunnel, theirs: usize, supplied: &Supplied) -> Option<Form> {
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name)?;
    let ends = description.ends(tunnel);
    let (them, us) = (ends[theirs], ends[1 - theirs]);
    Some(Form {
        tunnel: built.name.clone(),
        theirs: them.name.value.clone(),
        ours: us.name.value.clone(),
        titles: [them, us].map(|site| site.title().to_owned()),
        about_us: about(us, tunnel, built, 1 - theirs),
        fields: fields([us, them], tunnel, built, theirs),
        needs: needs(us, them, tunnel, built, theirs),
        handovers: handovers(description, tunnel, supplied),
    })
}

fn about(us: &Site, tunnel: &Tunnel, built: &BuiltTunnel, end: usize) -> Vec<(&'static str, Vec<String>)> {
    let mut about = vec![("public address", vec![us.address.value.to_string()])];
    if us.own_address.is_some() {
        about.push(("behind NAT", vec!["yes: ESP will travel in UDP".to_owned()]));
    }
    about.push(("identity", vec![us.identity().words()]));
    let nets = built.gateways[end].crossing().into_iter().map(|(apparent, _)| apparent.to_string());
    let mut nets: Vec<String> = if tunnel.hosts.is_some() { vec!["the gateway itself".to_owned()] } else { nets.collect() };
    nets.sort();
    nets.dedup();
    about.push(("networks", nets));
    about.push(("proves itself by", vec![tunnel.method.value.words().to_owned()]));
    about
}

fn fields([us, them]: [&Site; 2], tunnel: &Tunnel, built: &BuiltTunnel, end: usize) -> Vec<FormField> {
    let mut fields = Vec::new();
    let mut field = |code: String, what: &str, proposed: String| fields.push(FormField { code, what: what.to_owned(), proposed });
    field("platform".to_owned(), "make and version of your gateway", String::new());
    field(
        "address".to_owned(),
        "its public address",
        match &them.address.value {
            Address::Assigned => String::new(),
            known => known.to_string(),
        },
    );
    field(
        "own-address".to_owned(),
        "its own address, if a NAT device stands before it",
        them.own_address.as_ref().map(|own| own.value.to_string()).unwrap_or_default(),
    );
    field("identity".to_owned(), "how it names itself: an address, a DNS name, a mail-like name", them.identity().to_string());
    for network in them.own_networks() {
        field(format!("network {}", network.name.value), "a network behind it", network.prefix.value.to_string());
    }
    let version = built.agreement.exchange.version();
    field("key-exchange".to_owned(), "version of the key exchange", version.words().to_owned());
    let [of_ike, of_esp] = match version {
        IkeVersion::V1 => ["phase 1: cipher, hash, group", "phase 2 (ESP): cipher, integrity"],
        IkeVersion::V2 => ["proposal for the IKE SA: cipher, integrity, PRF, group", "proposal for ESP: cipher, integrity"],
    };
    for (i, proposal) in built.agreement.ike.iter().enumerate() {
        field(format!("ike {}", i + 1), of_ike, proposal_words(proposal, version));
    }
    for (i, proposal) in built.agreement.esp.iter().enumerate() {
        field(format!("esp {}", i + 1), of_esp, proposal_words(proposal, version));
    }
    let group = built.agreement.esp.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
    field("pfs".to_owned(), "group for PFS, or none", group.map_or("none".to_owned(), registered));
    let of_ike = if version == IkeVersion::V1 { "life of phase 1" } else { "life of the IKE SA" };
    let of_esp = if version == IkeVersion::V1 { "life of phase 2" } else { "life of the ESP SAs" };
    field("ike-lifetime".to_owned(), of_ike, duration_words(built.agreement.ike_lifetime.hard));
    field("esp-lifetime".to_owned(), of_esp, duration_words(built.agreement.esp_lifetime.hard));
    field(
        "liveness".to_owned(),
        "how often a silent peer is asked (dead peer detection), or none",
        tunnel.liveness.map_or("none".to_owned(), duration_words),
    );
    if tunnel.pairs.len() > 1 && !tunnel.is_between_gateways() {
        let now = if built.agreement.bundle == Bundle::One { TOGETHER } else { PER_PAIR };
        field("esp-sas".to_owned(), "an ESP SA for each pair of networks, or one for all", now.to_owned());
    }
    field("traffic-limit".to_owned(), "after how many kilobytes ESP gets new keys, or none", "none".to_owned());
    let opener = match tunnel.initiator {
        Some(opener) if opener == end => them.title(),
        Some(_) => us.title(),
        None => "either",
    };
    let initiator = format!("who opens the tunnel: {}, {} or either", them.title(), us.title());
    field("initiator".to_owned(), &initiator, opener.to_owned());
    field("contact".to_owned(), "whom to call", String::new());
    field("ticket".to_owned(), "the number of the order or change", String::new());
    field("valid-until".to_owned(), "until when the tunnel is wanted", String::new());
    fields
}

fn needs(us: &Site, them: &Site, tunnel: &Tunnel, built: &BuiltTunnel, end: usize) -> Vec<String> {
    let from = match us.reached() {
        Endpoint::Anywhere => "any address (ours changes)".to_owned(),
        known => known.to_string(),
    };
    let in_udp = built.agreement.encapsulation.contains(&Encapsulation::Forced);
    let carrier = if in_udp { "UDP 500 and UDP 4500" } else { "UDP 500, UDP 4500 and ESP (IP protocol 50)" };
    let mut needs = vec![format!("Let {carrier} in from {from}.")];
    let gateway = &built.gateways[end];
    for (local, remote) in gateway.crossing() {
        let only = match &tunnel.passes[end] {
            Passing::All => String::new(),
            only => format!(", for what your hosts may open: {only}"),
        };
        if tunnel.hosts.is_none() {
            needs.push(format!("Let {local} and {remote} reach each other, in both directions and only through the tunnel{only}."));
            needs
                .push(format!("Keep addresses as they are between {local} and {remote}: no translation, before any rule that translates."));
        }
    }
    if tunnel.method.value == Method::SharedSecret {
        needs.push(format!("Use the shared secret for {} and {} alone.", them.name.value, us.name.value));
    }
    needs
}
