//! Sites and the small values in them.

use super::{Decoder, Node, flag, in_file_order, list, number, printable, table, text};
use crate::description::values::PrefixError;
use crate::description::{Address, AllowedAlgorithms, EVERYTHING, Keys, Network, Site, values};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use toml::de::DeTable;
use uspan_dialects::dialect::is_interface;
use uspan_model::algorithm::Kind;
use uspan_model::duration::{duration_words, parse_duration, usual_duration};
use uspan_model::finding::{self as rules, nearest};
use uspan_model::gateway::{FilterForm, Identity};
use uspan_model::source::{Located, Span};
use uspan_model::subject::Subject;

/// The most characters of a title.
const LONGEST_TITLE: usize = 32;

impl Decoder<'_> {
    pub(super) fn site(&mut self, name: Located<String>, fields: &DeTable<'_>) -> Option<Site> {
        let platform = fields
            .get("platform")
            .and_then(text)
            .and_then(|word| Some(Located::new(Arc::clone(self.context.profile(word.value)?), word.span)));
        let gateway = fields.get("gateway").and_then(table);
        let address = gateway.and_then(|g| g.get("address")).and_then(text).and_then(|t| self.gateway_address(t));
        let own_address = gateway.and_then(|g| g.get("own-address")).and_then(text).and_then(|t| self.address(t, "own-address"));
        let is_others = platform.as_ref().is_some_and(|platform| platform.value.is_run_by_others());
        let outside = match gateway.and_then(|g| g.get("outside")).and_then(text) {
            Some(said) => self.interface(said),
            None if is_others => Some(Located::new(String::new(), name.span)),
            None => {
                self.no_outside(fields);
                None
            }
        };
        let inside: Vec<_> = gateway
            .and_then(|g| g.get("inside"))
            .map(|node| match text(node) {
                Some(one) => vec![one],
                None => list(node).iter().filter_map(text).collect(),
            })
            .unwrap_or_default()
            .into_iter()
            .filter_map(|t| self.interface(t))
            .collect();
        if !is_others {
            self.inside_and_networks(&name, fields, gateway);
        }
        let networks = self.networks(fields);
        let identity = fields.get("identity").and_then(|node| self.identity(node));
        let filter = match fields.get("filter").and_then(text).map(|t| t.value) {
            Some("joined") => FilterForm::Joined,
            _ => FilterForm::Standalone,
        };
        let named = fields.get("packet-filter").and_then(text).and_then(|word| self.context.filter(word.value));
        Some(Site {
            platform: platform?,
            address: address?,
            own_address,
            outside: outside?,
            inside,
            networks,
            identity,
            keys: fields.get("keys").and_then(table).map(|keys| {
                let file = |key| keys.get(key).and_then(text).map(|file| file.map(str::to_owned));
                Box::new(Keys {
                    public: file("public"),
                    certificate: file("certificate"),
                    issuer: file("issuer"),
                    private: file("private"),
                })
            }),
            as_number: self.as_number(fields)?,
            // Who runs it keeps what crosses out of that, and is told so.
            shares_internet: !is_others && fields.get("shares-internet").and_then(flag).unwrap_or(false),
            packet_filter: named.or(self.context.filters.first().copied())?,
            route_based: match fields.get("style").and_then(text) {
                Some(word) => Located::new(word.value == "route-based", word.span),
                None => Located::new(false, name.span),
            },
            filter,
            allows: fields.get("allows").and_then(table).map(|kinds| self.narrowings(kinds)).unwrap_or_default(),
            title: fields.get("title").and_then(text).and_then(|found| self.title(found)),
            note: fields.get("note").and_then(text).map(|t| t.value.to_owned()),
            name,
        })
    }

    /// What people call it: as long as a name at most, so that it has room in a picture.
    fn title(&mut self, found: Located<&str>) -> Option<String> {
        let length = found.value.chars().count();
        if length > LONGEST_TITLE {
            let message = format!("`title` has {length} characters, and {LONGEST_TITLE} are the most");
            self.say(&rules::LONG_TEXT, found.span, message);
            return None;
        }
        Some(found.value.to_owned())
    }

    /// Says that the interface towards the internet is missing, where nothing else is wrong with it or with what it would be of.
    fn no_outside(&mut self, fields: &DeTable<'_>) {
        let Some((node, gateway)) = fields.get("gateway").and_then(|node| Some((node, table(node)?))) else { return };
        let is_mistyped =
            gateway.keys().any(|key| nearest(key.get_ref(), ["address", "own-address", "inside", "outside"]) == Some("outside"));
        if !is_mistyped && !gateway.contains_key("outside") {
            self.say(&rules::MISSING_KEY, node.span(), "`gateway` lacks `outside`").remedy =
                "Add `outside = \"wan0\"`: the interface towards the internet.".to_owned();
        }
    }

    /// An interface towards the networks where there are some, and networks where there is one; a host has neither.
    fn inside_and_networks(&mut self, name: &Located<String>, fields: &DeTable<'_>, gateway: Option<&DeTable<'_>>) {
        let Some(gateway) = gateway else { return };
        match (gateway.get("inside"), fields.get("networks"), fields.get("gateway")) {
            (None, Some(_), Some(node)) => {
                self.say(&rules::MISSING_KEY, node.span(), "`gateway` lacks `inside`, and there are `networks`").remedy =
                    "Add `inside = \"lan0\"`: the interface, or interfaces, towards the networks.".to_owned();
            }
            (Some(_), None, _) => {
                let message = format!("site `{}` lacks `networks`, and its gateway has an `inside`", printable(&name.value));
                self.say(&rules::MISSING_KEY, name.span, message).remedy =
                    "Add `networks = { office = \"10.41.0.0/22\" }`; or remove `inside` at a host, behind which nothing stands.".to_owned();
            }
            _ => {}
        }
    }

    /// The networks behind its gateway.
    fn networks(&mut self, fields: &DeTable<'_>) -> Vec<Network> {
        let named = fields.get("networks").and_then(table).map(in_file_order).unwrap_or_default();
        let mut networks = Vec::with_capacity(named.len());
        for (name, node) in named {
            if name.get_ref() == EVERYTHING {
                self.say(
                    &rules::BAD_NAME,
                    name.span(),
                    "`everything` is no network: in `carries` it stands for all that is reached through a site",
                )
                .remedy = "Give the network another name.".to_owned();
            }
            if let Some(prefix) = text(node).and_then(|t| self.prefix(t)) {
                networks.push(Network { name: Located::new(name.get_ref().to_string(), name.span()), prefix, beyond: None });
            }
        }
        networks
    }

    /// The site's autonomous system, if it says one.
    #[expect(clippy::option_option, reason = "wrong, not said, said")]
    fn as_number(&mut self, fields: &DeTable<'_>) -> Option<Option<u32>> {
        let Some(node) = fields.get("as-number") else { return Some(None) };
        let number = number(node)?;
        // 23456, 65535 and the last one are reserved (IANA AS numbers).
        match u32::try_from(number).ok().filter(|number| !matches!(*number, 0 | 23_456 | 65_535 | u32::MAX)) {
            Some(number) => Some(Some(number)),
            None => {
                self.say(&rules::BAD_AS_NUMBER, node.span(), format!("{number} is not the number of an autonomous system"));
                None
            }
        }
    }

    fn narrowings(&mut self, kinds: &DeTable<'_>) -> Vec<AllowedAlgorithms> {
        let mut all = Vec::new();
        for kind in Kind::ALL {
            let Some(node) = kinds.get(kind.word()) else { continue };
            let words = list(node).iter().filter_map(text).filter(|word| !word.value.is_empty());
            let rows = words.filter_map(|word| {
                let span = word.span;
                self.algorithm(kind, word).map(|row| Located::new(row, span))
            });
            all.push(AllowedAlgorithms { kind, rows: rows.collect() });
        }
        all
    }

    fn gateway_address(&mut self, found: Located<&str>) -> Option<Located<Address>> {
        if found.value == "dynamic" {
            return Some(found.map(|_| Address::Dynamic));
        }
        if found.value == "assigned" {
            return Some(found.map(|_| Address::Assigned));
        }
        match Address::read(found.value) {
            Some(address) => Some(Located::new(address, found.span)),
            None => self.address(found, "address").map(|address| address.map(Address::Fixed)),
        }
    }

    pub(super) fn address(&mut self, found: Located<&str>, key: &str) -> Option<Located<IpAddr>> {
        if let Ok(address) = found.value.parse() {
            return Some(Located::new(address, found.span));
        }
        if found.value.is_empty() {
            return None;
        }
        let finding = self.say(&rules::BAD_ADDRESS, found.span, format!("`{}` is not an address (`{key}`)", printable(found.value)));
        if let Some((address, _)) = found.value.split_once('/') {
            finding.remedy = format!("Write the address without the prefix length: `{}`.", printable(address));
        }
        None
    }

    pub(super) fn interface(&mut self, found: Located<&str>) -> Option<Located<String>> {
        let fits = is_interface(found.value);
        if !fits && !found.value.is_empty() {
            self.say(&rules::BAD_INTERFACE, found.span, format!("`{}` cannot be the name of an interface", printable(found.value)));
        }
        fits.then(|| found.map(str::to_owned))
    }

    pub(super) fn prefix(&mut self, found: Located<&str>) -> Option<Located<ipnet::IpNet>> {
        let shown = printable(found.value);
        match values::parse_prefix(found.value) {
            Ok(net) => return Some(Located::new(net, found.span)),
            Err(_) if found.value.is_empty() => {}
            Err(PrefixError::Malformed(why)) => {
                self.say(&rules::BAD_PREFIX, found.span, format!("`{shown}` is not a network prefix: {why}"));
            }
            Err(PrefixError::HostBits(net)) => {
                self.say(&rules::HOST_BITS, found.span, format!("`{shown}` has bits set behind the prefix length")).remedy =
                    format!("Probably `{net}` is meant; for one host write `/{}`.", net.max_prefix_len());
            }
        }
        None
    }

    pub(super) fn identity(&mut self, node: &Node<'_>) -> Option<Located<Identity>> {
        let fields = in_file_order(table(node)?);
        let [(kind, value)] = fields.as_slice() else {
            if fields.iter().all(|(key, _)| ["address", "name", "mail", "free", "subject"].contains(&key.get_ref().as_ref())) {
                self.say(&rules::SEVERAL_IDENTITIES, node.span(), format!("the identity has {} kinds, expected one", fields.len()));
            }
            return None;
        };
        let found = text(value)?;
        if found.value.is_empty() || found.value.chars().any(char::is_control) {
            return None;
        }
        let shown = printable(found.value);
        let identity = match kind.get_ref().as_ref() {
            "subject" => match Subject::read(found.value) {
                Some(subject) => Identity::Subject(subject),
                None => {
                    self.say(&rules::BAD_SUBJECT, found.span, format!("`{shown}` is not a subject that every platform can carry"));
                    return None;
                }
            },
            "address" => return self.address(found, "identity.address").map(|a| a.map(Identity::Address)),
            "name" if values::is_dns_name(found.value) => Identity::Name(found.value.to_owned()),
            "mail" if values::is_mail_name(found.value) => Identity::Mail(found.value.to_owned()),
            "free" if values::is_free_name(found.value) => Identity::Free(found.value.to_owned()),
            "name" => {
                let finding = self.say(&rules::BAD_DNS_NAME, found.span, format!("`{shown}` is not a DNS name"));
                if found.value.parse::<IpAddr>().is_ok() {
                    finding.remedy = format!("Write `identity = {{ address = \"{shown}\" }}`.");
                }
                return None;
            }
            "mail" => {
                self.say(&rules::BAD_MAIL_NAME, found.span, format!("`{shown}` is not a mail-like name"));
                return None;
            }
            "free" => {
                self.say(&rules::BAD_FREE_NAME, found.span, format!("`{shown}` cannot be carried by every platform"));
                return None;
            }
            _ => return None,
        };
        Some(Located::new(identity, found.span))
    }

    pub(super) fn duration(&mut self, fields: &DeTable<'_>, key: &str, default: u64, missing: Span) -> Option<Located<Duration>> {
        let Some(found) = fields.get(key).and_then(text) else {
            return Some(Located::new(Duration::from_secs(default), missing));
        };
        let duration = parse_duration(found.value);
        if duration.is_none() && !found.value.is_empty() {
            let said = self.say(&rules::BAD_DURATION, found.span, format!("`{}` is not a duration (`{key}`)", printable(found.value)));
            if let Some(meant) = usual_duration(found.value) {
                said.remedy = format!("Write `\"{}\"`.", duration_words(meant));
            }
        }
        duration.map(|d| Located::new(d, found.span))
    }
}
