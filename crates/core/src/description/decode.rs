//! From TOML to a description: first the shape of everything against the language table, then the
//! values. Several findings in one pass; a part that cannot be understood is left out.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::time::Duration;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::language::{DOCUMENT, Key, Need, Shape, VERSION};
use super::values::{self, PrefixError};
use super::{Allowance, Description, Network, Offer, Pair, Pfs, Site, Tunnel};
use crate::algorithm::{Algorithm, Cipher, Group, Integrity, Kind, Lookup, Prf, Row, look_up, named, preset};
use crate::finding::{self as rules, Finding, Rule, any_stops, in_reading_order, nearest, suggestion};
use crate::gateway::{EspProposal, FilterForm, Identity, IkeProposal, Opening};
use crate::platform::platform;
use crate::source::{Located, Source, Span};

type Node<'a> = Spanned<DeValue<'a>>;

pub(super) fn decode(source: &Source) -> (Description, Vec<Finding>) {
    let (root, errors) = DeTable::parse_recoverable(source.text());
    let mut decoder = Decoder { source, findings: Vec::new() };
    decoder.syntax(&errors);
    let mut description = Description { source: source.clone(), sites: Vec::new(), tunnels: Vec::new() };
    // After a syntax error the rest of the tree is guesswork: do not pile findings on it.
    if !any_stops(&decoder.findings) {
        decoder.document(root.get_ref(), &mut description);
    }
    in_reading_order(&mut decoder.findings);
    (description, decoder.findings)
}

struct Decoder<'a> {
    source: &'a Source,
    findings: Vec<Finding>,
}

/// Entries of a table in the order of the file.
fn in_file_order<'t, 'i>(table: &'t DeTable<'i>) -> Vec<(&'t Spanned<Cow<'i, str>>, &'t Node<'i>)> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
}

fn text<'t>(node: &'t Node<'_>) -> Option<Located<&'t str>> {
    match node.get_ref() {
        DeValue::String(text) => Some(Located::new(text.as_ref(), node.span())),
        _ => None,
    }
}

fn table<'t, 'i>(node: &'t Node<'i>) -> Option<&'t DeTable<'i>> {
    match node.get_ref() {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

fn list<'t, 'i>(node: &'t Node<'i>) -> &'t [Node<'i>] {
    match node.get_ref() {
        DeValue::Array(items) => items,
        _ => &[],
    }
}

fn flag(node: &Node<'_>) -> Option<bool> {
    match node.get_ref() {
        DeValue::Boolean(value) => Some(*value),
        _ => None,
    }
}

fn kind_words(node: &Node<'_>) -> &'static str {
    match node.get_ref() {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "`true` or `false`",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

impl Decoder<'_> {
    fn say(&mut self, rule: &'static Rule, span: impl Into<Span>, message: impl Into<String>) -> &mut Finding {
        let place = self.source.place(span.into());
        self.findings.push(Finding::new(rule, message).at(place));
        self.findings.last_mut().expect("just pushed")
    }

    fn syntax(&mut self, errors: &[toml::de::Error]) {
        let mut last_line = 0;
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            // The parser recovers token by token; one finding a line is enough.
            let line = self.source.position(span.start).line;
            if line == last_line {
                continue;
            }
            last_line = line;
            let rule = if error.message().contains("duplicate") { &rules::SAID_TWICE } else { &rules::SYNTAX };
            let message = match rule.code == rules::SAID_TWICE.code {
                true => "this is written twice".to_owned(),
                false => format!("this is not well-formed TOML: {}", error.message().trim()),
            };
            self.say(rule, span, message);
        }
    }

    // ---- shape ---------------------------------------------------------------------------------

    fn check_table(&mut self, found: &DeTable<'_>, keys: &'static [Key], whole: Span, what: &str) {
        let mut mistyped = Vec::new();
        for (name, node) in in_file_order(found) {
            let word = name.get_ref().as_ref();
            match keys.iter().find(|key| key.name == word) {
                Some(key) => self.check_shape(node, &key.shape, key.name),
                None => {
                    mistyped.extend(nearest(word, keys.iter().map(|key| key.name)));
                    let hint = suggestion(word, keys.iter().map(|key| key.name));
                    self.say(&rules::UNKNOWN_KEY, name.span(), format!("{what} has no key `{}`", printable(word))).remedy =
                        format!("{hint} `uspan schema` lists all keys.");
                }
            }
        }
        // A key that is there under a mistyped name is not reported as missing too.
        let missing = |key: &&Key| key.need == Need::Required && !found.contains_key(key.name) && !mistyped.contains(&key.name);
        for key in keys.iter().filter(missing) {
            let (rule, remedy) = match key.name {
                "unified-span" => (&rules::NO_VERSION, rules::NO_VERSION.remedy.to_owned()),
                "tunnel" | "site" if found.is_empty() || key.name == "tunnel" => {
                    (&rules::NOTHING_TO_BUILD, rules::NOTHING_TO_BUILD.remedy.to_owned())
                }
                _ => (&rules::MISSING_KEY, format!("Add `{} = {}`: {}", key.name, key.example, key.doc)),
            };
            self.say(rule, whole, format!("{what} lacks `{}`", key.name)).remedy = remedy;
        }
    }

    fn check_shape(&mut self, node: &Node<'_>, shape: &'static Shape, key: &str) {
        match (shape, node.get_ref()) {
            (Shape::Number, DeValue::Integer(_)) | (Shape::Flag, DeValue::Boolean(_)) => {}
            (Shape::Text { .. }, DeValue::String(text)) => self.check_text(node, text, key),
            (Shape::Word(choices), DeValue::String(text)) => {
                let words: Vec<_> = choices().iter().map(|choice| choice.word).collect();
                if !words.contains(&text.as_ref()) {
                    self.unknown_word(node, text, key, &words);
                }
            }
            (Shape::Table(keys), DeValue::Table(table)) => {
                self.check_table(table, keys, node.span().into(), &format!("`{key}`"));
            }
            (Shape::Map { of, keys }, DeValue::Table(table)) => self.check_map(node, table, of, keys, key),
            (Shape::List { of, at_least }, DeValue::Array(items)) => {
                if items.is_empty() && *at_least > 0 {
                    self.say(&rules::EMPTY_VALUE, node.span(), format!("the list `{key}` is empty"));
                }
                for item in items.iter() {
                    self.check_shape(item, of, key);
                }
            }
            (Shape::Either(shapes), _) => self.check_either(node, shapes, shape, key),
            _ => self.wrong_type(node, shape, key),
        }
    }

    fn check_text(&mut self, node: &Node<'_>, text: &str, key: &str) {
        if text.is_empty() {
            self.say(&rules::EMPTY_VALUE, node.span(), format!("`{key}` is empty"));
        } else if text.chars().any(char::is_control) {
            self.say(&rules::CONTROL_CHARACTER, node.span(), format!("`{key}` holds a control character or a line break"));
        }
    }

    fn check_map(&mut self, node: &Node<'_>, entries: &DeTable<'_>, of: &'static Shape, keys: &str, key: &str) {
        if entries.is_empty() {
            let rule = if key == "networks" { &rules::NO_NETWORKS } else { &rules::EMPTY_VALUE };
            self.say(rule, node.span(), format!("`{key}` is a table of {keys}, but there is none"));
        }
        for (name, value) in in_file_order(entries) {
            let word = name.get_ref().as_ref();
            if keys.ends_with("by name") && !values::is_name(word) {
                self.say(&rules::BAD_NAME, name.span(), format!("`{}` cannot be the name of one of the {keys}", printable(word)));
            }
            match of {
                // Findings about the table as a whole point at its name, not at all its lines.
                Shape::Table(inner) => match table(value) {
                    Some(found) => self.check_table(found, inner, name.span().into(), &format!("{key} `{}`", printable(word))),
                    None => self.check_shape(value, of, word),
                },
                _ => self.check_shape(value, of, word),
            }
        }
    }

    fn check_either(&mut self, node: &Node<'_>, shapes: &'static [Shape], shape: &Shape, key: &str) {
        let fits = |shape: &Shape| {
            matches!(
                (shape, node.get_ref()),
                (Shape::Number, DeValue::Integer(_))
                    | (Shape::Flag, DeValue::Boolean(_))
                    | (Shape::Text { .. } | Shape::Word(_), DeValue::String(_))
                    | (Shape::Table(_) | Shape::Map { .. }, DeValue::Table(_))
                    | (Shape::List { .. }, DeValue::Array(_))
            )
        };
        match shapes.iter().find(|shape| fits(shape)) {
            Some(fitting) => self.check_shape(node, fitting, key),
            None => self.wrong_type(node, shape, key),
        }
    }

    fn wrong_type(&mut self, node: &Node<'_>, shape: &Shape, key: &str) {
        self.say(&rules::WRONG_TYPE, node.span(), format!("`{key}` is {}, expected {}", kind_words(node), shape.words())).remedy =
            format!("Write {}.", shape.words());
    }

    fn unknown_word(&mut self, node: &Node<'_>, word: &str, key: &str, words: &[&'static str]) {
        let rule = if key == "platform" { &rules::UNKNOWN_PLATFORM } else { &rules::UNKNOWN_WORD };
        let list = words.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ");
        let hint = nearest(word, words.iter().copied()).map_or(String::new(), |near| format!("did you mean `{near}`? "));
        self.say(rule, node.span(), format!("`{}` is none of the choices for `{key}`", printable(word))).remedy =
            format!("{hint}The choices are {list}.");
    }

    // ---- values --------------------------------------------------------------------------------

    fn document(&mut self, root: &DeTable<'_>, description: &mut Description) {
        self.check_table(root, DOCUMENT, Span::default(), "the description");
        if let Some(node) = root.get("unified-span")
            && let DeValue::Integer(number) = node.get_ref()
            && i64::from_str_radix(number.as_str(), number.radix()) != Ok(VERSION)
        {
            self.say(&rules::UNKNOWN_VERSION, node.span(), format!("version {} of the language is not known", number.as_str()));
        }
        for (name, node) in root.get("site").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(fields) = table(node)
                && let Some(site) = self.site(Located::new(name.get_ref().to_string(), name.span()), fields)
            {
                description.sites.push(site);
            }
        }
        let known: BTreeMap<String, usize> = description.sites.iter().enumerate().map(|(i, site)| (site.name.value.clone(), i)).collect();
        // A site that has errors of its own is known by name, so that tunnels do not call it unknown.
        let all: Vec<String> =
            root.get("site").and_then(table).map(|t| t.keys().map(|k| k.get_ref().to_string()).collect()).unwrap_or_default();
        let sites = SiteIndex { known, all };
        for (name, node) in root.get("tunnel").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(fields) = table(node) {
                let name = Located::new(name.get_ref().to_string(), name.span());
                if let Some(tunnel) = self.tunnel(name, fields, &sites, &description.sites) {
                    description.tunnels.push(tunnel);
                }
            }
        }
    }

    fn site(&mut self, name: Located<String>, fields: &DeTable<'_>) -> Option<Site> {
        let platform = fields.get("platform").and_then(text).and_then(|word| Some(Located::new(platform(word.value)?, word.span)));
        let gateway = fields.get("gateway").and_then(table);
        let address = gateway.and_then(|g| g.get("address")).and_then(text).and_then(|t| self.address(t, "address"));
        let outside = gateway.and_then(|g| g.get("outside")).and_then(text).and_then(|t| self.interface(t));
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
        let mut networks = Vec::new();
        for (name, node) in fields.get("networks").and_then(table).map(in_file_order).unwrap_or_default() {
            if let Some(prefix) = text(node).and_then(|t| self.prefix(t)) {
                networks.push(Network { name: Located::new(name.get_ref().to_string(), name.span()), prefix });
            }
        }
        let identity = fields.get("identity").and_then(|node| self.identity(node));
        let filter = match fields.get("filter").and_then(text).map(|t| t.value) {
            Some("joined") => FilterForm::Joined,
            _ => FilterForm::Standalone,
        };
        Some(Site {
            name,
            platform: platform?,
            address: address?,
            outside: outside?,
            inside,
            networks,
            identity,
            shares_internet: fields.get("shares-internet").and_then(flag).unwrap_or(false),
            filter,
            note: fields.get("note").and_then(text).map(|t| t.value.to_owned()),
        })
    }

    fn address(&mut self, found: Located<&str>, key: &str) -> Option<Located<IpAddr>> {
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

    fn interface(&mut self, found: Located<&str>) -> Option<Located<String>> {
        let fits = (1..=15).contains(&found.value.len())
            && found.value.bytes().all(|b| b.is_ascii_alphanumeric() || b"._-@".contains(&b))
            && !matches!(found.value, "." | "..");
        if !fits && !found.value.is_empty() {
            self.say(&rules::BAD_INTERFACE, found.span, format!("`{}` cannot be the name of an interface", printable(found.value)));
        }
        fits.then(|| found.map(str::to_owned))
    }

    fn prefix(&mut self, found: Located<&str>) -> Option<Located<ipnet::IpNet>> {
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

    fn identity(&mut self, node: &Node<'_>) -> Option<Located<Identity>> {
        let fields = in_file_order(table(node)?);
        let [(kind, value)] = fields.as_slice() else {
            if fields.iter().all(|(key, _)| ["address", "name", "mail", "free"].contains(&key.get_ref().as_ref())) {
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

    fn duration(&mut self, fields: &DeTable<'_>, key: &str, default: u64, missing: Span) -> Option<Located<Duration>> {
        let Some(found) = fields.get(key).and_then(text) else {
            return Some(Located::new(Duration::from_secs(default), missing));
        };
        let duration = values::parse_duration(found.value);
        if duration.is_none() && !found.value.is_empty() {
            self.say(&rules::BAD_DURATION, found.span, format!("`{}` is not a duration (`{key}`)", printable(found.value)));
        }
        duration.map(|d| Located::new(d, found.span))
    }

    // ---- tunnels -------------------------------------------------------------------------------

    fn tunnel(&mut self, name: Located<String>, fields: &DeTable<'_>, index: &SiteIndex, sites: &[Site]) -> Option<Tunnel> {
        let between = fields.get("between").and_then(|node| self.between(node, index));
        let secret = fields.get("secret").and_then(table).and_then(|t| t.get("file")).and_then(text);
        let offer = self.offer(fields, &name);
        let pfs = self.pfs(fields, &name);
        let ike_lifetime = self.duration(fields, "ike-lifetime", 8 * 3600, name.span);
        let esp_lifetime = self.duration(fields, "esp-lifetime", 3600, name.span);
        let (liveness, liveness_at) = match fields.get("liveness").and_then(text) {
            Some(word) if word.value == "off" => (Some(None), word.span),
            Some(word) => (self.duration(fields, "liveness", 0, word.span).map(|d| Some(d.value)), word.span),
            None => (Some(Some(Duration::from_secs(30))), name.span),
        };
        let allows_weak = self.allowances(fields);
        let between = between?;
        let ends = [&sites[between[0].value], &sites[between[1].value]];
        let (pairs, carries) = match fields.get("carries") {
            Some(node) => (self.pairs(node, ends)?, node.span().into()),
            None => (all_pairs(ends, name.span), name.span),
        };
        let opened_by = self.opened_by(fields, ends)?;
        let opens = match fields.get("opens").and_then(text).map(|t| t.value) {
            Some("on-traffic") => Opening::OnTraffic,
            Some("by-hand") => Opening::Wait,
            _ => Opening::AtOnce,
        };
        Some(Tunnel {
            between,
            secret_file: secret?.map(str::to_owned),
            offer: offer?,
            pfs: pfs?,
            ike_lifetime: ike_lifetime?,
            esp_lifetime: esp_lifetime?,
            pairs,
            carries,
            opened_by,
            opens,
            liveness: liveness?,
            liveness_at,
            allows_weak,
            note: fields.get("note").and_then(text).map(|t| t.value.to_owned()),
            name,
        })
    }

    fn between(&mut self, node: &Node<'_>, index: &SiteIndex) -> Option<[Located<usize>; 2]> {
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
            if !index.all.iter().any(|known| known == name.value) {
                let hint = suggestion(name.value, index.all.iter().map(String::as_str));
                self.say(&rules::UNKNOWN_SITE, name.span, format!("there is no site `{}`", printable(name.value))).remedy =
                    format!("Correct the name or describe the site: {hint}");
            }
            index.known.get(name.value).map(|i| Located::new(*i, name.span))
        });
        let [Some(first), Some(second)] = ends else { return None };
        Some([first, second])
    }

    fn pairs(&mut self, node: &Node<'_>, ends: [&Site; 2]) -> Option<Vec<Pair>> {
        let mut pairs: Vec<Pair> = Vec::new();
        let before = self.findings.len();
        for entry in list(node) {
            let names: Vec<_> = list(entry).iter().filter_map(text).collect();
            let [first, second] = names.as_slice() else {
                self.say(&rules::WRONG_TYPE, entry.span(), format!("a pair has two networks, here are {}", names.len())).remedy =
                    format!("Write `[\"a network of {}\", \"a network of {}\"]`.", ends[0].name.value, ends[1].name.value);
                continue;
            };
            let found = [(first, ends[0]), (second, ends[1])].map(|(name, site)| self.network(name, site, ends));
            if let [Some(first), Some(second)] = found {
                let pair = Pair { first, second, span: entry.span().into() };
                if pairs.iter().any(|p| (p.first, p.second) == (first, second)) {
                    self.say(&rules::SAME_PAIR, entry.span(), "this pair is carried already");
                }
                pairs.push(pair);
            }
        }
        (self.findings.len() == before).then_some(pairs)
    }

    fn network(&mut self, name: &Located<&str>, site: &Site, ends: [&Site; 2]) -> Option<usize> {
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

    fn opened_by(&mut self, fields: &DeTable<'_>, ends: [&Site; 2]) -> Option<Option<usize>> {
        let Some(name) = fields.get("opened-by").and_then(text) else { return Some(Some(0)) };
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

    // ---- algorithms ----------------------------------------------------------------------------

    fn offer(&mut self, fields: &DeTable<'_>, name: &Located<String>) -> Option<Offer> {
        let before = self.findings.len();
        let strength = fields.get("strength").and_then(text);
        let (ike_node, esp_node) = (fields.get("ike"), fields.get("esp"));
        if let (Some(strength), Some(_), Some(_)) = (&strength, ike_node, esp_node) {
            self.say(&rules::TWO_OFFERS, strength.span, "`strength` has no effect beside both `ike` and `esp` proposals");
        }
        let word = strength.as_ref().map_or("strong", |s| s.value);
        let span = strength.as_ref().map_or(name.span, |s| s.span);
        let preset = preset(word)?;
        let ike = match ike_node {
            Some(node) => list(node).iter().filter_map(|p| self.ike_proposal(p)).collect(),
            None => preset.ike.iter().map(|row| Located::new(preset_ike(row), span)).collect(),
        };
        let esp = match esp_node {
            Some(node) => list(node).iter().filter_map(|p| self.esp_proposal(p)).collect(),
            None => preset.esp.iter().map(|row| Located::new(preset_esp(row), span)).collect(),
        };
        let offer = Offer {
            ike,
            esp,
            ike_key: if ike_node.is_some() { "ike" } else { "strength" },
            esp_key: if esp_node.is_some() { "esp" } else { "strength" },
            ike_preset: ike_node.is_none(),
            esp_preset: esp_node.is_none(),
        };
        (self.findings.len() == before).then_some(offer)
    }

    fn ike_proposal(&mut self, node: &Node<'_>) -> Option<Located<IkeProposal>> {
        let fields = table(node)?;
        let cipher = self.pick::<Cipher>(fields, "encryption");
        let integrity = self.pick::<Integrity>(fields, "integrity");
        let prf = self.pick::<Prf>(fields, "prf");
        let group = self.pick::<Group>(fields, "group");
        let (cipher, group) = (cipher?, group?);
        if !self.integrity_fits(node, fields, cipher, integrity) {
            return None;
        }
        let prf = match (prf, integrity.and_then(Integrity::prf)) {
            (Some(prf), _) => prf,
            (None, Some(same_hash)) if !fields.contains_key("prf") => same_hash,
            (None, _) => {
                if !fields.contains_key("prf") {
                    self.say(&rules::NO_PRF, node.span(), format!("`{cipher}` leaves open which PRF is used"));
                }
                return None;
            }
        };
        let integrities = integrity.into_iter().collect();
        Some(Located::new(IkeProposal { ciphers: vec![cipher], integrities, prfs: vec![prf], groups: vec![group] }, node.span()))
    }

    fn esp_proposal(&mut self, node: &Node<'_>) -> Option<Located<EspProposal>> {
        let fields = table(node)?;
        let cipher = self.pick::<Cipher>(fields, "encryption");
        let integrity = self.pick::<Integrity>(fields, "integrity");
        let cipher = cipher?;
        if !self.integrity_fits(node, fields, cipher, integrity) {
            return None;
        }
        let integrities = integrity.into_iter().collect();
        Some(Located::new(EspProposal { ciphers: vec![cipher], integrities, groups: Vec::new() }, node.span()))
    }

    /// A combined-mode cipher has no integrity algorithm beside it; every other cipher has one.
    fn integrity_fits(&mut self, node: &Node<'_>, fields: &DeTable<'_>, cipher: Cipher, integrity: Option<Integrity>) -> bool {
        match (cipher.is_aead(), fields.get("integrity")) {
            (true, Some(extra)) => {
                self.say(&rules::INTEGRITY_WITH_AEAD, extra.span(), format!("`{cipher}` protects integrity itself"));
                false
            }
            (false, None) => {
                self.say(&rules::NO_INTEGRITY, node.span(), format!("`{cipher}` needs an integrity algorithm beside it"));
                false
            }
            (false, Some(_)) => integrity.is_some(),
            (true, None) => true,
        }
    }

    fn pick<A: Algorithm>(&mut self, fields: &DeTable<'_>, key: &str) -> Option<A> {
        let word = fields.get(key).and_then(text).filter(|word| !word.value.is_empty())?;
        self.algorithm(A::KIND, word).map(A::of)
    }

    fn algorithm(&mut self, kind: Kind, word: Located<&str>) -> Option<&'static Row> {
        let shown = printable(word.value);
        let names = kind.rows().iter().map(|row| row.name).filter(|name| !name.is_empty());
        match look_up(kind, word.value) {
            Lookup::Found(row) => return Some(row),
            Lookup::NeedsKeyLength(number) => {
                let rows = kind.rows().iter().filter(|row| row.number == number);
                let list: Vec<_> = rows.map(|row| format!("`{}`", row.name)).collect();
                self.say(&rules::KEY_LENGTH_MISSING, word.span, format!("`{shown}` leaves the key length open")).remedy =
                    format!("Write one of {}.", list.join(", "));
            }
            Lookup::OtherKind(other) => {
                self.say(
                    &rules::WRONG_KIND,
                    word.span,
                    format!("`{shown}` is no {} algorithm but belongs under `{}`", kind.word(), other.word()),
                );
            }
            Lookup::Unknown => {
                let hint = match nearest(word.value, names) {
                    Some(near) => format!("did you mean `{near}`? "),
                    None => String::new(),
                };
                self.say(&rules::UNKNOWN_ALGORITHM, word.span, format!("there is no {} algorithm `{shown}`", kind.word())).remedy =
                    format!("{hint}`uspan algorithms` lists all of them.");
            }
        }
        None
    }

    fn pfs(&mut self, fields: &DeTable<'_>, name: &Located<String>) -> Option<Located<Pfs>> {
        let Some(node) = fields.get("pfs") else { return Some(Located::new(Pfs::AsIke, name.span)) };
        let pfs = match (flag(node), text(node)) {
            (Some(true), _) => Pfs::AsIke,
            (Some(false), _) => Pfs::Off,
            (None, word) => Pfs::With(Group::of(self.algorithm(Kind::Group, word?)?)),
        };
        Some(Located::new(pfs, node.span()))
    }

    fn allowances(&mut self, fields: &DeTable<'_>) -> Vec<Allowance> {
        let mut allowed = Vec::new();
        for (name, reason) in fields.get("allows-weak").and_then(table).map(in_file_order).unwrap_or_default() {
            let word = name.get_ref().as_ref();
            let span = Span::from(name.span());
            let rows: Vec<_> = Kind::ALL
                .into_iter()
                .filter_map(|kind| match look_up(kind, word) {
                    Lookup::Found(row) => Some(row),
                    _ => None,
                })
                .collect();
            if rows.is_empty() {
                self.say(&rules::UNKNOWN_ALGORITHM, span, format!("there is no algorithm `{}`", printable(word)));
            }
            let Some(reason) = text(reason) else { continue };
            if reason.value.trim().is_empty() {
                // An empty text is reported as such already; spaces are not.
                if !reason.value.is_empty() {
                    self.say(&rules::ALLOWED_WITHOUT_REASON, reason.span, format!("why is `{}` allowed?", printable(word)));
                }
                continue;
            }
            // One word can name a PRF and an integrity algorithm of the same hash: both are meant.
            allowed.extend(rows.into_iter().map(|row| Allowance { row, span, reason: reason.value.to_owned() }));
        }
        allowed
    }
}

struct SiteIndex {
    known: BTreeMap<String, usize>,
    all: Vec<String>,
}

fn all_pairs(ends: [&Site; 2], span: Span) -> Vec<Pair> {
    let mut pairs = Vec::new();
    for (first, one) in ends[0].networks.iter().enumerate() {
        for (second, other) in ends[1].networks.iter().enumerate() {
            if one.prefix.value.addr().is_ipv4() == other.prefix.value.addr().is_ipv4() {
                pairs.push(Pair { first, second, span });
            }
        }
    }
    pairs
}

fn preset_ike((cipher, integrity, prf, group): &(&str, &str, &str, &str)) -> IkeProposal {
    IkeProposal {
        ciphers: vec![named(cipher)],
        integrities: (!integrity.is_empty()).then(|| named(integrity)).into_iter().collect(),
        prfs: vec![named(prf)],
        groups: vec![named(group)],
    }
}

fn preset_esp((cipher, integrity): &(&str, &str)) -> EspProposal {
    EspProposal {
        ciphers: vec![named(cipher)],
        integrities: (!integrity.is_empty()).then(|| named(integrity)).into_iter().collect(),
        groups: Vec::new(),
    }
}

/// Text of the user's as it may stand in a message: control characters are shown, not sent.
fn printable(text: &str) -> String {
    text.chars().flat_map(|c| if c.is_control() { c.escape_default().collect::<Vec<_>>() } else { vec![c] }).collect()
}
