//! Tunnels: ends, pairs, roles.

use super::{Decoder, Node, SiteIndex, flag, in_file_order, list, number, printable, table, text};
use crate::description::{Address, Allowance, Appearance, EVERYTHING, NotCarried, Offer, Opens, Pair, Pfs, SelectorLimit, Site, Tunnel};
use std::sync::Arc;
use std::time::Duration;
use toml::de::DeTable;
use uspan_dialects::profile::SeveralPairs;
use uspan_model::finding::{self as rules, suggestion};
use uspan_model::gateway::{
    Dscp, Encapsulation, IkeVersion, MOST_PAIRS, Method, Mode, Passing, Traffic, ip_protocol, service, service_names,
};
use uspan_model::source::{Located, Span};

/// What a tunnel is called.
pub(super) struct TunnelFields {
    /// Its name.
    pub(super) name: Located<String>,
    /// The key under which its values stand.
    pub(super) key: Arc<str>,
    /// Whether it stands for itself; else what is missing is its group's affair.
    pub(super) alone: bool,
}

/// Values that have nothing to do with the ends; nothing where there is a finding.
struct Values {
    offer: Option<Offer>,
    pfs: Option<Located<Pfs>>,
    ike_lifetime: Option<Located<Duration>>,
    esp_lifetime: Option<Located<Duration>>,
    liveness: Option<Option<Duration>>,
    liveness_at: Span,
    allows_weak: Vec<Allowance>,
    method: Located<Method>,
}

impl Decoder<'_> {
    pub(super) fn tunnel(&mut self, name: Located<String>, fields: &DeTable<'_>, index: &SiteIndex, sites: &[Site]) -> Option<Tunnel> {
        let between = fields.get("between").and_then(|node| self.between(node, index));
        let key = format!("tunnel.{}", name.value).into();
        let told = TunnelFields { name, key, alone: true };
        let Some(between) = between else {
            self.values(&told, fields);
            return None;
        };
        let ends = [&sites[between[0].value], &sites[between[1].value]];
        self.told(told, fields, between, ends)
    }

    /// The values that have nothing to do with the ends.
    fn values(&mut self, told: &TunnelFields, fields: &DeTable<'_>) -> Values {
        let name = &told.name;
        let offer = self.offer(fields, name);
        let pfs = self.pfs(fields, name);
        let ike_lifetime = self.duration(fields, "ike-lifetime", 8 * 3600, name.span);
        let esp_lifetime = self.duration(fields, "esp-lifetime", 3600, name.span);
        let (liveness, liveness_at) = match fields.get("liveness").and_then(text) {
            Some(word) if word.value == "off" => (Some(None), word.span),
            Some(word) => (self.duration(fields, "liveness", 0, word.span).map(|d| Some(d.value)), word.span),
            None => (Some(Some(Duration::from_secs(30))), name.span),
        };
        let allows_weak = self.allowances(fields);
        let method = self.method(fields, told);
        Values { offer, pfs, ike_lifetime, esp_lifetime, liveness, liveness_at, allows_weak, method }
    }

    /// A tunnel between two ends, by what its table says.
    // Long: a field for each key.
    pub(super) fn told(
        &mut self,
        told: TunnelFields,
        fields: &DeTable<'_>,
        between: [Located<usize>; 2],
        ends: [&Site; 2],
    ) -> Option<Tunnel> {
        let values = self.values(&told, fields);
        let Values { offer, pfs, ike_lifetime, esp_lifetime, liveness, liveness_at, allows_weak, method } = values;
        let TunnelFields { name, key, .. } = told;
        let secret = fields.get("secret").and_then(table);
        let of_secret = |key: &str| secret.and_then(|secret| secret.get(key)).and_then(text).map(|said| said.map(str::to_owned));
        let hosts = fields.get("carries").filter(|node| text(node).is_some()).map(|node| Span::from(node.span()));
        let (pairs, carries) = match fields.get("carries") {
            _ if hosts.is_some() => (Vec::new(), name.span),
            Some(node) => (self.pairs(node, ends)?, node.span().into()),
            None => (self.all_pairs(ends, name.span)?, name.span),
        };
        let appearances = self.appearances(fields, ends)?;
        self.beside_everything(fields, ends, &pairs, &appearances);
        let limit = self.limit(fields, ends)?;
        let mut passes = match limit {
            Some(limit) => [0, 1].map(|opener| limit.passing(opener)),
            None => self.passes(fields, ends)?,
        };
        for appearance in appearances.iter().filter(|appearance| appearance.is_behind_one(ends[appearance.end])) {
            self.behind_one(fields, ends, appearance, &mut passes)?;
        }
        let initiator = self.initiator(fields, ends)?;
        let word = fields.get("opens").and_then(text);
        let opens = match word.as_ref().map(|word| word.value) {
            Some("on-traffic") => Opens::OnTraffic,
            Some("by-hand") => Opens::ByHand,
            _ => Opens::AtOnce,
        };
        let opens = Located::new(opens, word.map_or(name.span, |word| word.span));
        let version = match fields.get("version").and_then(text) {
            Some(word) if word.value == "ikev1" => Located::new(IkeVersion::V1, word.span),
            word => Located::new(IkeVersion::V2, word.map_or(name.span, |word| word.span)),
        };
        Some(Tunnel {
            between,
            key,
            generation: None,
            preference: 0,
            version,
            bgp: fields.get("routing").and_then(text).filter(|word| word.value == "bgp").map(|word| word.span),
            hosts,
            mode: fields
                .get("mode")
                .and_then(text)
                .map(|word| word.map(|word| if word == "tunnel" { Mode::Tunnel } else { Mode::Transport })),
            gre: fields.get("carrier").and_then(text).filter(|word| word.value == "gre").map(|word| word.span),
            link: fields.get("link").and_then(text).and_then(|found| self.prefix(found)),
            path_mtu: self.path_mtu(fields, name.span)?,
            replay_window: self.replay_window(fields)?,
            extended_sequence: fields
                .get("extended-sequence-numbers")
                .filter(|node| flag(node) == Some(true))
                .map(|node| node.span().into()),
            dscp: match fields.get("copies-dscp").and_then(text) {
                Some(word) if word.value == "both" => Located::new(Dscp::Both, word.span),
                Some(word) if word.value == "never" => Located::new(Dscp::Never, word.span),
                word => Located::new(Dscp::Outwards, word.map_or(name.span, |word| word.span)),
            },
            encapsulation: match fields.get("nat-traversal").and_then(text) {
                Some(word) if word.value == "forced" => Located::new(Encapsulation::Forced, word.span),
                Some(word) if word.value == "off" => Located::new(Encapsulation::Off, word.span),
                _ => Located::new(Encapsulation::Automatic, name.span),
            },
            aggressive: fields.get("aggressive").and_then(text).map(|reason| reason.map(str::to_owned)),
            secret_file: of_secret("file"),
            secret_in_use: of_secret("in-use"),
            method,
            offer: Arc::new(offer?),
            pfs: pfs?,
            ike_lifetime: ike_lifetime?,
            esp_lifetime: esp_lifetime?,
            pairs,
            carries,
            appearances,
            esp_sas: fields
                .get("esp-sas")
                .and_then(text)
                .map(|word| word.map(|word| if word == "together" { SeveralPairs::InOneSa } else { SeveralPairs::AnSaEach })),
            limit,
            not_carried: match fields.get("not-carried").and_then(text).is_some_and(|word| word.value == "left-alone") {
                true => NotCarried::LeftAlone,
                false => NotCarried::Dropped,
            },
            passes,
            passes_at: ["one-way", "services", "limited-to"]
                .iter()
                .find_map(|key| fields.get(*key))
                .map_or(name.span, |node| node.span().into()),
            logs_drops: fields.get("logs-drops").and_then(flag).unwrap_or(false),
            initiator,
            initiator_at: fields.get("initiator").map_or(name.span, |node| node.span().into()),
            opens,
            liveness: liveness?,
            liveness_at,
            allows_weak: allows_weak.into(),
            note: fields.get("note").and_then(text).map(|t| t.value.to_owned()),
            name,
        })
    }

    fn path_mtu(&mut self, fields: &DeTable<'_>, span: Span) -> Option<Located<u16>> {
        // Every link of the internet takes 576 bytes (RFC 791), and Ethernet with large frames about 9,000.
        const SIZES: std::ops::RangeInclusive<i64> = 576..=9000;
        let Some(node) = fields.get("path-mtu") else { return Some(Located::new(1500, span)) };
        let bytes = number(node)?;
        if !SIZES.contains(&bytes) {
            self.say(&rules::PATH_MTU_OUT_OF_RANGE, node.span(), format!("a path of {bytes} bytes, outside of 576 to 9000"));
            return None;
        }
        Some(Located::new(u16::try_from(bytes).ok()?, node.span()))
    }

    /// The window asked for, if one was; and no compression.
    fn replay_window(&mut self, fields: &DeTable<'_>) -> Option<Option<Located<u32>>> {
        // RFC 4303 demands 32; every kernel takes 2040.
        const PACKETS: std::ops::RangeInclusive<i64> = 32..=2040;
        if let Some(node) = fields.get("compression").filter(|node| flag(node) == Some(true)) {
            self.say(&rules::COMPRESSION, node.span(), "compression inside the tunnel");
            return None;
        }
        let Some(node) = fields.get("replay-window") else { return Some(None) };
        let packets = number(node)?;
        if !PACKETS.contains(&packets) {
            self.say(&rules::REPLAY_WINDOW_OUT_OF_RANGE, node.span(), format!("a window of {packets} packets, outside of 32 to 2040"));
            return None;
        }
        Some(Some(Located::new(u32::try_from(packets).ok()?, node.span())))
    }

    pub(super) fn between(&mut self, node: &Node<'_>, index: &SiteIndex) -> Option<[Located<usize>; 2]> {
        let names: Vec<_> = list(node).iter().filter_map(text).collect();
        let [first, second] = names.as_slice() else {
            if !names.is_empty() {
                self.say(&rules::NOT_TWO_ENDS, node.span(), format!("a tunnel joins two sites, here are {}", names.len()));
            }
            return None;
        };
        if first.value == second.value {
            self.say(&rules::SAME_END, second.span, format!("both ends are `{}`", printable(first.value)));
            return None;
        }
        let ends = [first, second].map(|name| {
            if !index.is_named(name.value) {
                let hint = suggestion(name.value, index.names());
                self.say(&rules::UNKNOWN_SITE, name.span, format!("there is no site `{}`", printable(name.value))).remedy =
                    format!("Correct the name or describe the site: {hint}");
            }
            index.known.get(name.value).map(|i| Located::new(*i, name.span))
        });
        let [Some(first), Some(second)] = ends else { return None };
        Some([first, second])
    }

    pub(super) fn pairs(&mut self, node: &Node<'_>, ends: [&Site; 2]) -> Option<Vec<Pair>> {
        let mut pairs: Vec<Pair> = Vec::new();
        let before = self.findings.len();
        for entry in list(node) {
            let names: Vec<_> = list(entry).iter().filter_map(text).collect();
            let [first, second] = names.as_slice() else {
                self.say(&rules::WRONG_TYPE, entry.span(), format!("a pair has two networks, here are {}", names.len())).remedy =
                    format!("Write `[\"a network of {}\", \"a network of {}\"]`.", ends[0].name.value, ends[1].name.value);
                continue;
            };
            let found = match [first, second].iter().any(|name| name.value == EVERYTHING) {
                false => [(first, ends[0]), (second, ends[1])].map(|(name, site)| self.network(name, site, ends)),
                true => self.with_everything([first, second], ends),
            };
            if let [Some(first), Some(second)] = found {
                let pair = Pair { first, second, span: entry.span().into() };
                if pairs.iter().any(|p| (p.first, p.second) == (first, second)) {
                    self.say(&rules::SAME_PAIR, entry.span(), "this pair is carried already");
                }
                pairs.push(pair);
            }
        }
        if pairs.len() > MOST_PAIRS {
            self.too_many_pairs(pairs.len(), node.span().into());
        }
        (self.findings.len() == before).then_some(pairs)
    }

    /// Every network of the one with every network of the other; nothing where those are too many.
    pub(super) fn all_pairs(&mut self, ends: [&Site; 2], span: Span) -> Option<Vec<Pair>> {
        let of = |end: usize, ipv4: bool| ends[end].own_networks().filter(|own| own.prefix.value.addr().is_ipv4() == ipv4).count();
        let count = of(0, true).saturating_mul(of(1, true)).saturating_add(of(0, false).saturating_mul(of(1, false)));
        if count > MOST_PAIRS {
            self.too_many_pairs(count, span);
            return None;
        }
        let mut pairs = Vec::with_capacity(count);
        for (first, one) in ends[0].own_networks().enumerate() {
            for (second, other) in ends[1].own_networks().enumerate() {
                if one.prefix.value.addr().is_ipv4() == other.prefix.value.addr().is_ipv4() {
                    pairs.push(Pair { first, second, span });
                }
            }
        }
        Some(pairs)
    }

    fn too_many_pairs(&mut self, count: usize, span: Span) {
        self.say(&rules::TOO_MANY_PAIRS, span, format!("it carries {count} pairs of networks, and {MOST_PAIRS} are the most"));
    }

    pub(super) fn network(&mut self, name: &Located<&str>, site: &Site, ends: [&Site; 2]) -> Option<usize> {
        let found = site.networks.iter().position(|network| network.name.value == name.value);
        if found.is_none() {
            let turned = ends.iter().any(|other| other.name.value != site.name.value && other.network(name.value).is_some());
            let hint = match turned {
                true => format!(
                    "Turn the pair round: the first network belongs to `{}`, the second to `{}`.",
                    ends[0].name.value, ends[1].name.value
                ),
                false => format!("Correct the name: {}", suggestion(name.value, site.networks.iter().map(|n| n.name.value.as_str()))),
            };
            self.say(
                &rules::UNKNOWN_NETWORK,
                name.span,
                format!("site `{}` has no network `{}`", site.name.value, printable(name.value)),
            )
            .remedy = hint;
        }
        found
    }

    /// How the gateways prove who they are; a secret is there exactly where it is used.
    fn method(&mut self, fields: &DeTable<'_>, told: &TunnelFields) -> Located<Method> {
        let name = &told.name;
        let word = fields.get("authentication").and_then(text);
        let method = match word.as_ref().map(|word| word.value) {
            Some("public-keys") => Method::PublicKey,
            Some("certificates") => Method::Certificate,
            _ => Method::SharedSecret,
        };
        match (method, fields.get("secret")) {
            (Method::SharedSecret, None) if told.alone => {
                let message = format!("tunnel `{}` lacks `secret`", printable(&name.value));
                self.say(&rules::MISSING_KEY, name.span, message).remedy =
                    "Add `secret = { file = \"secrets/harvest.key\" }`: the shared secret with which the gateways prove who they are."
                        .to_owned();
            }
            (Method::PublicKey | Method::Certificate, Some(node)) => {
                self.say(&rules::SECRET_UNUSED, node.span(), "a shared secret, where keys are used");
            }
            _ => {}
        }
        Located::new(method, word.map_or(name.span, |word| word.span))
    }

    /// Networks that appear as others.
    fn appearances(&mut self, fields: &DeTable<'_>, ends: [&Site; 2]) -> Option<Vec<Appearance>> {
        let mut all = Vec::new();
        for (site, networks) in fields.get("appears-as").and_then(table).map(in_file_order).unwrap_or_default() {
            let end = self.end(&Located::new(site.get_ref().as_ref(), site.span()), ends)?;
            for (name, node) in table(networks).map(in_file_order).unwrap_or_default() {
                let network = self.network(&Located::new(name.get_ref().as_ref(), name.span()), ends[end], ends)?;
                let prefix = self.prefix(text(node)?)?;
                all.push(Appearance { end, network, prefix });
            }
        }
        Some(all)
    }

    /// Whom nobody can reach first, because all of a network stands behind one address.
    fn behind_one(&mut self, fields: &DeTable<'_>, ends: [&Site; 2], appearance: &Appearance, passes: &mut [Passing; 2]) -> Option<()> {
        let (end, nothing) = (appearance.end, Passing::Only(Vec::new()));
        let told = ["services", "one-way"].iter().any(|key| fields.contains_key(*key));
        if passes[end] == nothing || told && passes[1 - end] != nothing {
            let [own, other] = [ends[end], ends[1 - end]].map(|site| &site.name.value);
            let network = &ends[end].networks[appearance.network].name.value;
            let message = format!("`{network}` appears as one address: connections can be opened by the hosts of `{own}` alone");
            self.say(&rules::APPEARANCE_UNFIT, appearance.prefix.span, message).remedy = format!(
                "Say `one-way = \"{own}\"`, or leave out what the hosts of `{other}` may open; or let it appear as a network of its length."
            );
            return None;
        }
        passes[1 - end] = nothing;
        Some(())
    }

    /// To what the selectors are limited, if they are.
    fn limit(&mut self, fields: &DeTable<'_>, ends: [&Site; 2]) -> Option<Option<SelectorLimit>> {
        let Some((node, limit)) = fields.get("limited-to").and_then(|node| Some((node, table(node)?))) else { return Some(None) };
        let word = limit.get("protocol").and_then(text)?;
        let Some(protocol) = ip_protocol(word.value).filter(|number| SelectorLimit::is_for(*number)) else {
            let message = format!("selectors are not limited to `{}` here", printable(word.value));
            self.say(&rules::LIMIT_UNFIT, word.span, message).remedy =
                "Write `tcp`, `udp`, `icmp` or `icmpv6`, or leave `limited-to` out: then the SA takes every protocol.".to_owned();
            return None;
        };
        let mut ports = [None, None];
        for (site, value) in limit.get("ports").and_then(table).map(in_file_order).unwrap_or_default() {
            let end = self.end(&Located::new(site.get_ref().as_ref(), site.span()), ends)?;
            let port = u16::try_from(number(value)?).ok().filter(|port| *port > 0);
            if port.is_none() {
                self.say(&rules::LIMIT_UNFIT, value.span(), "a port is between 1 and 65535");
                return None;
            }
            ports[end] = port;
        }
        let beside = ["services", "one-way", "routing"].iter().find_map(|key| Some((*key, fields.get(*key)?)));
        let wrong = match (beside, fields.get("carrier"), protocol) {
            (Some((key, other)), ..) => Some((other.span(), format!("`{key}` beside `limited-to`, which says it already"))),
            (_, Some(carrier), _) if text(carrier).is_some_and(|word| word.value == "gre") => {
                Some((carrier.span(), "`carrier` beside `limited-to`: the selectors name GRE alone".to_owned()))
            }
            _ if fields.get("carries").is_some_and(|carries| text(carries).is_some()) => Some((
                node.span(),
                "`limited-to` beside `carries = \"gateways\"`: what else the two send each other would have no SA".to_owned(),
            )),
            (_, _, number) if ports != [None, None] && SelectorLimit::transport(number).is_none() => {
                Some((word.span.range(), format!("`{}` has no ports", printable(word.value))))
            }
            _ if ports.iter().all(Option::is_some) => {
                let message =
                    "a port at each site: whoever opens a connection takes some other port for it, and would find no SA".to_owned();
                Some((node.span(), message))
            }
            _ => None,
        };
        if let Some((span, message)) = wrong {
            self.say(&rules::LIMIT_UNFIT, span, message);
            return None;
        }
        Some(Some(SelectorLimit { protocol, ports }))
    }

    /// What the hosts of each end may open connections for.
    fn passes(&mut self, fields: &DeTable<'_>, ends: [&Site; 2]) -> Option<[Passing; 2]> {
        let one_way = fields.get("one-way").and_then(text);
        let mut passes = match fields.get("services") {
            None => [Passing::All, Passing::All],
            Some(node) => match table(node) {
                None => {
                    let both = self.services(list(node))?;
                    [both.clone(), both]
                }
                Some(sites) => {
                    if let Some(word) = &one_way {
                        self.say(&rules::ONE_WAY_TWICE, word.span, "`services` says already which site may open connections");
                        return None;
                    }
                    let mut passes = [Passing::Only(Vec::new()), Passing::Only(Vec::new())];
                    for (name, node) in in_file_order(sites) {
                        let end = self.end(&Located::new(name.get_ref().as_ref(), name.span()), ends)?;
                        passes[end] = self.services(list(node))?;
                    }
                    passes
                }
            },
        };
        if let Some(word) = &one_way {
            let end = self.end(word, ends)?;
            passes[1 - end] = Passing::Only(Vec::new());
        }
        Some(passes)
    }

    fn services(&mut self, entries: &[Node<'_>]) -> Option<Passing> {
        let mut found: Vec<Traffic> = Vec::new();
        let mut everything = false;
        for word in entries.iter().filter_map(text) {
            match service(word.value) {
                Some(traffics) => traffics.into_iter().for_each(|traffic| {
                    if !found.contains(&traffic) {
                        found.push(traffic);
                    }
                }),
                None if word.value == "all" => everything = true,
                None => {
                    let hint = suggestion(word.value, service_names().chain(["all"]));
                    self.say(&rules::UNKNOWN_SERVICE, word.span, format!("`{}` is no service", printable(word.value))).remedy =
                        format!("{hint} Or write a protocol and ports, such as `tcp/8443` or `udp/5060-5070`.");
                    return None;
                }
            }
        }
        Some(if everything { Passing::All } else { Passing::Only(found) })
    }

    /// Which end of the tunnel a site's name means.
    fn end(&mut self, name: &Located<&str>, ends: [&Site; 2]) -> Option<usize> {
        let found = ends.iter().position(|site| site.name.value == name.value);
        if found.is_none() {
            self.say(&rules::NOT_AN_END, name.span, format!("`{}` is not an end of this tunnel", printable(name.value))).remedy =
                format!("Write `{}` or `{}`.", ends[0].name.value, ends[1].name.value);
        }
        found
    }

    pub(super) fn initiator(&mut self, fields: &DeTable<'_>, ends: [&Site; 2]) -> Option<Option<usize>> {
        let Some(name) = fields.get("initiator").and_then(text) else {
            // Whoever cannot be found opens.
            let dynamic = ends.map(|site| site.address.value == Address::Dynamic);
            return Some(Some(usize::from(dynamic == [false, true])));
        };
        if name.value == "either" {
            return Some(None);
        }
        let found = ends.iter().position(|site| site.name.value == name.value);
        if found.is_none() {
            let words = [ends[0].name.value.as_str(), ends[1].name.value.as_str(), "either"];
            self.say(&rules::UNKNOWN_STARTER, name.span, format!("`{}` is not an end of this tunnel", printable(name.value))).remedy =
                format!("Choose one of `{}`.", words.join("`, `"));
        }
        found.map(Some)
    }
}
