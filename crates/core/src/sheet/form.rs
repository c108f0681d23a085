//! The sheet for the party that owns the other end: only what it needs, in neutral words and the names of the IANA registries,
//! with a blank beside each value; and a filled-in one, read back into the description.
//!
//! What platform the other party has need not be known: nothing here is spelled as a platform spells it.

use std::collections::BTreeMap;

use ipnet::IpNet;
use toml_edit::{Array, DocumentMut, InlineTable, Item, TableLike, Value};

use super::handover::{Handover, handovers};
use super::{proposal_words, registered};
use crate::build::BuiltTunnel;
use uspan_description::check::Supplied;
use uspan_description::description::{Address, Description, Site, Tunnel, is_name};
use uspan_model::algorithm::{Kind, Lookup, look_up};
use uspan_model::duration::{duration_words, parse_duration};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Encapsulation, Endpoint, Method, Passing};
use uspan_model::source::{Source, Span};

/// The sheet for one end's owner.
#[derive(Clone, Debug)]
pub struct Form {
    /// The tunnel's name.
    pub tunnel: String,
    /// The site that is the reader's.
    pub theirs: String,
    /// The site that is the writer's.
    pub ours: String,
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
const IKE: &str = "ike";
const LISTS: [&str; 2] = [IKE, "esp"];

impl FormField {
    /// The list of proposals that it is one of.
    fn list(&self) -> Option<&'static str> {
        let (head, _) = self.code.split_once(' ')?;
        LISTS.into_iter().find(|list| *list == head)
    }
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
        about_us: about(us, tunnel, built, 1 - theirs),
        fields: fields(them, tunnel, built, theirs),
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

fn fields(them: &Site, tunnel: &Tunnel, built: &BuiltTunnel, end: usize) -> Vec<FormField> {
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
    field("key-exchange".to_owned(), "version of the key exchange", built.agreement.exchange.version().words().to_owned());
    for (i, proposal) in built.agreement.ike.iter().enumerate() {
        field(format!("ike {}", i + 1), "proposal for the IKE SA", proposal_words(proposal, built.agreement.exchange.version()));
    }
    for (i, proposal) in built.agreement.esp.iter().enumerate() {
        field(format!("esp {}", i + 1), "proposal for ESP", proposal_words(proposal, built.agreement.exchange.version()));
    }
    let group = built.agreement.esp.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
    field("pfs".to_owned(), "group for PFS, or none", group.map_or("none".to_owned(), registered));
    field("ike-lifetime".to_owned(), "life of the IKE SA", duration_words(built.agreement.ike_lifetime.hard));
    field("esp-lifetime".to_owned(), "life of the ESP SAs", duration_words(built.agreement.esp_lifetime.hard));
    let opener = match tunnel.initiator {
        Some(opener) if opener == end => "yours",
        Some(_) => "ours",
        None => "either",
    };
    field("initiator".to_owned(), "who opens the tunnel: yours, ours or either", opener.to_owned());
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
        let only = match &gateway.hosts_may_open() {
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

/// A filled-in value, and where it stands in the sheet.
struct Filled {
    value: String,
    span: Span,
}

/// What came of reading a filled-in sheet.
#[derive(Clone, Debug, Default)]
pub struct Refilled {
    /// The description with what was filled in; nothing where something could not be read.
    pub text: Option<String>,
    /// What was filled in: the field, as it was proposed, as it is now.
    pub changed: Vec<(String, String, String)>,
    /// What could not be read.
    pub findings: Vec<Finding>,
}

/// Reads a filled-in sheet back into the description that it came from. The text of the description keeps its remarks.
pub fn fill(description: &Description, form: &Form, sheet: &Source) -> Refilled {
    let mut refilled = Refilled::default();
    let filled = filled(form, sheet, &mut refilled);
    let Ok(mut document) = description.source.text().parse::<DocumentMut>() else { return refilled };
    for field in &form.fields {
        let Some(Filled { value, span }) = filled.get(field.code.as_str()) else { continue };
        refilled.changed.push((field.code.clone(), field.proposed.clone(), value.clone()));
        if field.list().is_some() {
            continue;
        }
        if let Err(expected) = put(&mut document, form, &field.code, value) {
            refilled.findings.push(misread(sheet, *span, &field.code, value, expected));
        }
    }
    // A list stands for itself: beside a strength there is none, and one of the two needs the other.
    let listed = form.fields.iter().any(|field| field.list().is_some() && filled.contains_key(field.code.as_str()));
    for list in LISTS.into_iter().filter(|_| listed) {
        let mut array = Array::new();
        for field in form.fields.iter().filter(|field| field.list() == Some(list)) {
            let corrected = filled.get(field.code.as_str());
            let value = corrected.map_or(field.proposed.as_str(), |filled| filled.value.as_str());
            match (value, proposal(value, list == IKE)) {
                ("none" | "no", _) => {}
                (_, Some(table)) => array.push(Value::InlineTable(table)),
                (_, None) => {
                    let expected =
                        "transforms of the IANA registries, such as `ENCR_AES_GCM_16, 256 bits; PRF_HMAC_SHA2_384; group 20`, or `none`";
                    let span = corrected.map_or(Span { start: 0, end: 0 }, |filled| filled.span);
                    refilled.findings.push(misread(sheet, span, &field.code, value, expected));
                }
            }
        }
        if let Some(table) = document["tunnel"][&form.tunnel].as_table_like_mut() {
            table.remove("strength");
            set(table, list, Value::Array(array));
        }
    }
    if refilled.findings.is_empty() {
        refilled.text = Some(document.to_string());
    }
    refilled
}

fn misread(sheet: &Source, span: Span, code: &str, value: &str, expected: &str) -> Finding {
    Finding::new(&rules::SHEET_VALUE, format!("`{value}` stands for `{code}`; expected is {expected}")).at(sheet.place(span))
}

/// The rows of the table whose last cell is not blank, by their first.
fn filled<'f>(form: &'f Form, sheet: &Source, refilled: &mut Refilled) -> BTreeMap<&'f str, Filled> {
    let mut found = BTreeMap::new();
    for (row, span) in sheet.lines() {
        let Some(inner) = row.strip_prefix('|').and_then(|row| row.strip_suffix('|')) else { continue };
        let cells: Vec<&str> = inner.split('|').collect();
        let [code, .., last] = cells.as_slice() else { continue };
        let code = code.trim().trim_matches('`');
        let value = last.trim().trim_matches('`');
        // The head of a table, the rule below it, and tables of other things.
        if cells.len() != 4 || code.is_empty() || code.chars().all(|c| "-: ".contains(c)) || code == "field" {
            continue;
        }
        let end = span.end - 1;
        let at = Span { start: end - last.len() + (last.len() - last.trim_start().len()), end: end - (last.len() - last.trim_end().len()) };
        match form.fields.iter().find(|field| field.code == code) {
            None => {
                let message = format!("`{code}` is no field of the sheet for {}", form.theirs);
                refilled.findings.push(Finding::new(&rules::SHEET_FIELD, message).at(sheet.place(Span { start: span.start, end })));
            }
            Some(field) if value.is_empty() || value == field.proposed || value.chars().all(|c| "_-. ".contains(c)) => {}
            Some(field) => {
                found.insert(field.code.as_str(), Filled { value: value.to_owned(), span: at });
            }
        }
    }
    found
}

/// A value in place of another one, with the remark that stands behind it.
fn set(table: &mut dyn TableLike, key: &str, mut value: Value) {
    if let Some(Item::Value(old)) = table.get(key) {
        *value.decor_mut() = old.decor().clone();
    }
    table.insert(key, Item::Value(value));
}

/// The same in what should be a table.
fn set_at(item: &mut Item, key: &str, value: Value) {
    if let Some(table) = item.as_table_like_mut() {
        set(table, key, value);
    }
}

/// Puts a value where the description has it; or what was expected.
fn put(document: &mut DocumentMut, form: &Form, code: &str, value: &str) -> Result<(), &'static str> {
    let site = |document: &mut DocumentMut, key: &str, value: Value| set_at(&mut document["site"][&form.theirs], key, value);
    let tunnel = |document: &mut DocumentMut, key: &str, value: Value| set_at(&mut document["tunnel"][&form.tunnel], key, value);
    let gateway = |document: &mut DocumentMut, key: &str, value: Value| set_at(&mut document["site"][&form.theirs]["gateway"], key, value);
    match code {
        // What it is called nobody here can check: it is kept as a remark.
        "platform" => site(document, "note", format!("{} runs {}", form.theirs, value).into()),
        "address" => {
            if Endpoint::read(value).is_none() && value != "dynamic" {
                return Err("an address, a DNS name or `dynamic`");
            }
            gateway(document, "address", value.into());
        }
        "own-address" => {
            value.parse::<std::net::IpAddr>().map_err(|_| "an address")?;
            gateway(document, "own-address", value.into());
        }
        "identity" => {
            let kind = match value.parse::<std::net::IpAddr>() {
                Ok(_) => "address",
                Err(_) if value.contains('@') => "mail",
                Err(_) => "name",
            };
            if value.contains(char::is_whitespace) {
                return Err("an address, a DNS name or a mail-like name");
            }
            let mut table = InlineTable::new();
            table.insert(kind, value.into());
            site(document, "identity", Value::InlineTable(table));
        }
        "key-exchange" => {
            let word = match value.to_lowercase().as_str() {
                "ikev1" | "1" => "ikev1",
                "ikev2" | "2" => "ikev2",
                _ => return Err("IKEv1 or IKEv2"),
            };
            tunnel(document, "version", word.into());
        }
        "pfs" => match value {
            "none" | "no" | "off" => tunnel(document, "pfs", false.into()),
            value => {
                let group =
                    transform(Kind::KeyExchange, value).ok_or("a group by its number or its name in the IANA registry, or `none`")?;
                tunnel(document, "pfs", group.into());
            }
        },
        "ike-lifetime" | "esp-lifetime" => {
            let life = value.replace(' ', "");
            parse_duration(&life).ok_or("a time such as `8h`, `3600s` or `90m`")?;
            tunnel(document, code, life.into());
        }
        "initiator" => {
            let who = match value {
                "yours" => form.theirs.as_str(),
                "ours" => form.ours.as_str(),
                "either" => "either",
                _ => return Err("`yours`, `ours` or `either`"),
            };
            tunnel(document, "initiator", who.into());
        }
        network => {
            let name = network.strip_prefix("network ").filter(|name| is_name(name)).ok_or("a network")?;
            let net: IpNet = value.parse().map_err(|_| "a network such as `10.73.16.0/20`")?;
            if net != net.trunc() {
                return Err("a network without host bits, such as `10.73.16.0/20`");
            }
            set_at(&mut document["site"][&form.theirs]["networks"], name, net.to_string().into());
        }
    }
    Ok(())
}

/// Our name of a transform that is named as in the registries: `ENCR_AES_CBC (12), 256 bits`, `group 20`, `20`.
fn transform(kind: Kind, text: &str) -> Option<&'static str> {
    let (head, bits) = match text.split_once(',') {
        Some((head, bits)) => (head, bits.trim().strip_suffix("bits").unwrap_or(bits).trim().parse::<u16>().ok()),
        None => (text, None),
    };
    let (name, number) = match head.split_once('(') {
        Some((name, number)) => (name.trim(), number.trim().trim_end_matches(')').parse::<u16>().ok()),
        None => (head.trim(), head.trim().trim_start_matches("group").trim().parse::<u16>().ok()),
    };
    let mut rows = kind.rows().iter().filter(|row| !row.name.is_empty());
    let fits = |row_bits: u16| bits.is_none_or(|bits| bits == row_bits || row_bits == 0);
    if kind == Kind::KeyExchange
        && let Some(number) = number
    {
        return rows.find(|row| row.number == number).map(|row| row.name);
    }
    let word = bits.map_or_else(|| name.to_owned(), |bits| format!("{name}:{bits}"));
    match look_up(kind, &word) {
        Lookup::Found(row) if fits(row.key_bits) => Some(row.name),
        _ => match look_up(kind, name) {
            Lookup::Found(row) if fits(row.key_bits) => Some(row.name),
            _ => None,
        },
    }
}

/// A proposal of transforms with semicolons between them.
fn proposal(text: &str, for_ike: bool) -> Option<InlineTable> {
    let mut table = InlineTable::new();
    for part in text.split(';').map(str::trim).filter(|part| !part.is_empty()) {
        let kinds = [(Kind::Encryption, "encryption"), (Kind::Integrity, "integrity"), (Kind::Prf, "prf"), (Kind::KeyExchange, "group")];
        let free =
            kinds.into_iter().filter(|(kind, key)| !table.contains_key(key) && (for_ike || !matches!(kind, Kind::Prf | Kind::KeyExchange)));
        let (key, name) = free.into_iter().find_map(|(kind, key)| Some((key, transform(kind, part)?)))?;
        table.insert(key, name.into());
    }
    // Without a cipher it protects nothing; IKE needs a group beside it.
    (table.contains_key("encryption") && (!for_ike || table.contains_key("group"))).then_some(table)
}
