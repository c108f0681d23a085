//! A site of an adopted description.

use std::collections::BTreeMap;

use ipnet::IpNet;
use toml_edit::Table;

use super::{Adoptee, Counterparts, Note, NoteKind, inline, list, say, site_names, text};
use uspan_dialects::packet_filter::{PACKET_FILTERS, PacketFilter};
use uspan_model::gateway::{Endpoint, Filter, Identity, Method, NatTarget, OwnAddress};

/// A site while it is written.
pub(super) struct SiteWriter<'a> {
    pub(super) ends: [Adoptee<'a>; 2],
    pub(super) end: usize,
    pub(super) pairs: &'a [Counterparts<'a>],
    /// The networks behind it, by name.
    pub(super) nets: &'a [(String, IpNet)],
    pub(super) notes: &'a mut Vec<Note>,
    /// Public keys and certificates by the files that the description names for them.
    pub(super) shown: &'a mut BTreeMap<String, String>,
}

impl SiteWriter<'_> {
    fn note(&mut self, about: &str, text: String) {
        let about = format!("{about} of {}", self.ends[self.end].reading.name);
        self.notes.push(Note { tunnel: None, about, text, places: [None, None], kind: NoteKind::Told });
    }

    /// The table of the site.
    pub(super) fn table(&mut self) -> Table {
        let mut table = Table::new();
        self.place(&mut table);
        self.proof(&mut table);
        self.rules(&mut table);
        let gateway = self.ends[self.end].reading.gateway;
        if self.pairs.iter().any(|pair| pair.connections[self.end].interface.value.is_some()) {
            say(&mut table, "style", "route-based");
        }
        if let Some(session) = gateway.sessions.first() {
            say(&mut table, "as-number", i64::from(session.own_as));
        }
        table
    }

    /// Where it is, and what is behind it; and who it is.
    fn place(&mut self, table: &mut Table) {
        let Self { ends, end, pairs, .. } = *self;
        let nets: Vec<_> = self.nets.iter().filter(|(_, net)| net.prefix_len() > 0).collect();
        let reading = ends[end].reading;
        let gateway = reading.gateway;
        let (own, seen) = match pairs.first() {
            Some(pair) => (pair.connections[end].local.value.clone(), pair.connections[1 - end].remote.value.clone()),
            None => (Endpoint::Anywhere, Endpoint::Anywhere),
        };
        let address = match (seen.first(), own.first()) {
            (Endpoint::At(address), _) => address.to_string(),
            (Endpoint::Named(name), _) => name.clone(),
            (Endpoint::Anywhere, Endpoint::At(address)) => address.to_string(),
            _ => "dynamic".to_owned(),
        };
        let mut parts = vec![("address", text(&address))];
        if let (Endpoint::At(own), Endpoint::At(seen)) = (&own, &seen)
            && own != seen
        {
            parts.push(("own-address", text(&own.to_string())));
        }
        // The files may tell which interface has the outer address, and which ones the networks are behind.
        let outer = [own.address().or(seen.address())];
        let outside = gateway.addresses.iter().find(|own| outer.contains(&Some(own.address.addr())));
        let near = |own: &&OwnAddress| nets.iter().any(|(_, net)| net.contains(&own.address.addr()));
        // What has the outer address is not where the networks are, whatever those contain.
        let other = |own: &&OwnAddress| outside.is_none_or(|outside| outside.interface != own.interface);
        let mut inside: Vec<String> = gateway.addresses.iter().filter(near).filter(other).map(|own| own.interface.clone()).collect();
        inside.sort();
        inside.dedup();
        if outside.is_none() || (inside.is_empty() && !nets.is_empty()) {
            self.note("interfaces", "not all of their names are in the files: write them in place of wan0 and lan0".to_owned());
        }
        parts.push(("outside", text(outside.map_or("wan0", |own| &own.interface))));
        if !nets.is_empty() {
            parts.push(("inside", if inside.is_empty() { text("lan0") } else { list(&inside) }));
        }
        if ends[end].facts.written_as.is_some() {
            let title = &ends[end].facts.title;
            self.note(
                "files",
                format!("they are of {title}, which is only read: the same daemon gets files of its newer form, and the old ones must go"),
            );
        }
        say(table, "platform", text(ends[end].facts.written_as.as_ref().unwrap_or(&ends[end].facts.word)));
        say(table, "gateway", inline(parts));
        if !nets.is_empty() {
            say(table, "networks", inline(nets.iter().map(|(name, net)| (name, text(&net.to_string())))));
        }
        let identity = pairs.first().map(|pair| &pair.connections[end].ike().local_identity.value);
        let words = match identity {
            Some(Identity::Address(is)) if is.to_string() != address => Some(("address", is.to_string())),
            Some(Identity::Address(_) | Identity::Anybody) | None => None,
            Some(Identity::Implied(what)) => {
                self.note("identity", format!("it is not said: {what}"));
                None
            }
            Some(said) => Some((said.kind(), said.to_string())),
        };
        if let Some((kind, is)) = words {
            say(table, "identity", inline([(kind, text(&is))]));
        }
    }

    /// What it proves itself with.
    fn proof(&mut self, table: &mut Table) {
        let Self { ends, end, pairs, .. } = *self;
        let name = site_names(ends)[end].clone();
        let signing =
            |method| pairs.iter().map(|pair| pair.connections[end]).find(|connection| connection.ike().local_method.value == method);
        let [own, peer] = [end, 1 - end].map(|end| ends[end].reading.gateway);
        if let Some(connection) = signing(Method::PublicKey) {
            let file = format!("keys/{name}.pub");
            say(table, "keys", inline([("public", text(&file))]));
            match own.own_key(connection) {
                Some(key) => {
                    self.shown.insert(file, key.pem().to_owned());
                    self.note("keys", "the private key stays on the gateway".to_owned());
                }
                None => self.note("keys", format!("put the public key into {file}; the private one stays on the gateway")),
            }
        }
        if let Some(connection) = signing(Method::Certificate) {
            let files = [format!("keys/{name}.crt"), format!("keys/{name}-ca.crt")];
            say(table, "keys", inline([("certificate", text(&files[0])), ("issuer", text(&files[1]))]));
            let certificate = own.own_certificate(connection);
            let issuer = certificate.and_then(|own| peer.authorities.iter().find(|authority| own.issued_by(authority)));
            match certificate.zip(issuer) {
                Some((certificate, issuer)) => {
                    let pems = [certificate, issuer].map(|one| one.pem().to_owned());
                    self.shown.extend(files.into_iter().zip(pems));
                    self.note("keys", "the private key stays on the gateway".to_owned());
                }
                None => {
                    let [certificate, issuer] = files;
                    let text = format!(
                        "put the certificate into {certificate} and its authority's into {issuer}; the private key stays on the gateway"
                    );
                    self.note("keys", text);
                }
            }
        }
    }

    /// What its packet filter is, and how the tunnel's rules stand to it.
    fn rules(&mut self, table: &mut Table) {
        let Self { ends, end, .. } = *self;
        let reading = ends[end].reading;
        let gateway = reading.gateway;
        if gateway.ruleset.masquerades() || gateway.nat.iter().any(|rule| rule.target == NatTarget::KeepSource) {
            say(table, "shares-internet", true);
        }
        let filter = reading.tree.and_then(|tree| PACKET_FILTERS.iter().copied().find(|filter| filter.is_of(tree)));
        match filter.map(PacketFilter::word) {
            // The first is what a site has that names none.
            Some(word) if word == PACKET_FILTERS[0].word() => {}
            Some(word) => {
                say(table, "packet-filter", text(word));
            }
            None => self.note("packet filter", "there are no files of one: the rules that are written will be new".to_owned()),
        }
        // What its own chains drop nobody lets pass beside them: the tunnel's rules must join those.
        let must_join = gateway.filter.is_none() && gateway.ruleset.drops_the_rest();
        if must_join || gateway.filter.as_ref().is_some_and(Filter::is_joined) {
            say(table, "filter", "joined");
        }
        let chains: Vec<_> = gateway.ruleset.chains.iter().map(|chain| format!("{} of the table {}", chain.name, chain.table)).collect();
        if !chains.is_empty() {
            let jump = if must_join { "; jump to the tunnel's from those that drop" } else { "" };
            let mut places = [None, None];
            places[end] = gateway.ruleset.chains.iter().find_map(|chain| chain.base.as_ref()?.place.0.clone());
            self.notes.push(Note {
                tunnel: None,
                about: format!("rules of {}", reading.name),
                text: format!("chains that are not a tunnel's stay as they are, outside of the description: {}{jump}", chains.join(", ")),
                places,
                kind: NoteKind::Told,
            });
        }
    }
}
