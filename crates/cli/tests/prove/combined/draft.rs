//! From values that were chosen to a description, with what they need beside them.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use ipnet::IpNet;
use uspan_core::algorithm::{Kind, Lookup, look_up};

use super::factors::{Factor, Spot};
use super::forms::Form;
use crate::fidelity::Rng;
use crate::suite::seed_of;

/// Values of keys, by the places of both in the list of factors, for two platforms.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Choice {
    pub platforms: [&'static str; 2],
    /// Sizes, names and the like follow from it.
    pub seed: u64,
    pub values: BTreeMap<usize, usize>,
}

/// What is decided before the rest: who stands where.
pub struct Draft {
    pub names: [String; 2],
    /// The networks of each site, and of a third one.
    pub networks: [Vec<(String, IpNet)>; 2],
    /// Whether the gateways have IPv6.
    pub six: bool,
}

impl Draft {
    pub fn six_inside(&self) -> bool {
        self.networks.iter().flatten().any(|(_, net)| net.addr().is_ipv6())
    }

    /// The pairs of networks of one family.
    pub fn pairs(&self) -> Vec<[&str; 2]> {
        let [first, second] = &self.networks;
        let both = first.iter().flat_map(|one| second.iter().map(move |other| [one, other]));
        let alike = both.filter(|[one, other]| one.1.addr().is_ipv4() == other.1.addr().is_ipv4());
        alike.map(|pair| pair.map(|(name, _)| name.as_str())).collect()
    }

    pub fn pair(&self, rng: &mut Rng) -> Option<[String; 2]> {
        let pairs = self.pairs();
        (!pairs.is_empty()).then(|| rng.of(&pairs).map(str::to_owned))
    }
}

/// A description, and the files that it names.
pub struct Written {
    pub text: String,
    /// For whom keys and certificates are asked: the names that the certificate has, by site.
    pub certified: [Vec<String>; 2],
    pub by_certificates: bool,
}

struct Writer<'a> {
    factors: &'a [Factor],
    choice: &'a Choice,
    draft: Draft,
}

/// The description of a choice; nothing where a value has no place in it.
pub fn written(factors: &[Factor], choice: &Choice) -> Option<Written> {
    let draft = Draft { names: ["packhouse".to_owned(), "coldstore".to_owned()], networks: [Vec::new(), Vec::new()], six: false };
    let mut writer = Writer { factors, choice, draft };
    for end in [0, 1] {
        if let Some(name) = writer.text(Spot::Site(end), "name")? {
            writer.draft.names[end] = name;
        }
    }
    writer.draft.six = [0, 1].into_iter().any(|end| writer.word(Spot::Site(end), "gateway.address") == Some("IPv6"));
    for end in [0, 1] {
        let text = match writer.text(Spot::Site(end), "networks")? {
            Some(text) => text,
            None if writer.six_elsewhere(1 - end) => format!("net = \"{}\"", ["fd41:16:41::/64", "fd41:16:73::/64"][end]),
            None => format!("net = \"{}\"", ["10.41.0.0/22", "10.173.16.0/20"][end]),
        };
        writer.draft.networks[end] = read_networks(&text);
    }
    writer.description()
}

fn read_networks(text: &str) -> Vec<(String, IpNet)> {
    let one = |part: &str| {
        let (name, net) = part.split_once(" = ")?;
        Some((name.to_owned(), net.trim_matches('"').parse().ok()?))
    };
    text.split(", ").filter_map(one).collect()
}

impl Writer<'_> {
    fn at(&self, spot: Spot, key: &str) -> Option<(usize, usize)> {
        let factor = self.factors.iter().position(|factor| factor.spot == spot && factor.key == key)?;
        Some((factor, *self.choice.values.get(&factor)?))
    }

    /// What a table calls the value of a key.
    fn word(&self, spot: Spot, key: &str) -> Option<&str> {
        let (factor, value) = self.at(spot, key)?;
        Some(&self.factors[factor].values[value].word)
    }

    /// The value of a key as it is spelled: `Some(None)` where nothing was chosen, nothing where it has no place.
    fn text(&self, spot: Spot, key: &str) -> Option<Option<String>> {
        let Some((factor, value)) = self.at(spot, key) else { return Some(None) };
        let end = match spot {
            Spot::Site(end) => end,
            Spot::Tunnel | Spot::Beside => 2,
        };
        match &self.factors[factor].values[value].form {
            Form::Literal(text) => Some(Some(text.clone())),
            Form::Drawn(draw) => {
                let name = (self.choice.seed, self.factors[factor].name());
                draw(&self.draft, end, &mut Rng::from(seed_of(name))).map(Some)
            }
        }
    }

    /// Whether a site was given networks of IPv6 alone.
    fn six_elsewhere(&self, end: usize) -> bool {
        self.word(Spot::Site(end), "networks").is_some_and(|word| word.contains("IPv6"))
    }

    fn description(&self) -> Option<Written> {
        let by_certificates = self.word(Spot::Tunnel, "authentication") == Some("certificates");
        let by_keys = self.word(Spot::Tunnel, "authentication") == Some("public-keys");
        let mut text = "unified-span = 1\n".to_owned();
        let mut certified = [Vec::new(), Vec::new()];
        for end in [0, 1] {
            text += &self.site(end, by_keys, by_certificates, &mut certified[end])?;
        }
        let lines = self.tunnel()?;
        let secret = if by_keys || by_certificates { "" } else { "secret = { file = \"k\" }\n" };
        let name = self.text(Spot::Tunnel, "name")?.unwrap_or_else(|| "harvest".to_owned());
        let [first, second] = &self.draft.names;
        let shape = self.text(Spot::Beside, "shape")?;
        let beside = self.beside()?;
        match shape.as_deref() {
            Some(shape @ ("star" | "mesh")) => {
                text += &self.third();
                let _ = writeln!(text, "[group.{name}]\nshape = \"{shape}\"");
                let members =
                    if shape == "star" { format!("\"{second}\", \"third\"") } else { format!("\"{first}\", \"{second}\", \"third\"") };
                if shape == "star" {
                    let _ = writeln!(text, "hubs = [\"{first}\"]");
                }
                let _ = writeln!(text, "members = [{members}]");
                if !secret.is_empty() {
                    text.push_str("master = \"k\"\n");
                }
                text += &beside;
                let _ = writeln!(text, "[group.{name}.policy]\n{}", lines.concat());
            }
            other => {
                let between = |one: &str, two: &str| format!("between = [\"{one}\", \"{two}\"]\n");
                if !beside.is_empty() {
                    return None;
                }
                if other == Some("third") {
                    text += &self.third();
                    let _ = write!(text, "[tunnel.other]\n{}secret = {{ file = \"k2\" }}\n", between("third", first));
                }
                let _ = write!(text, "[tunnel.{name}]\n{}{secret}{}", between(first, second), lines.concat());
                if other == Some("second") {
                    let _ = write!(text, "[tunnel.second]\n{}{secret}{}", between(first, second), self.twin(&lines)?);
                }
            }
        }
        Some(Written { text, certified, by_certificates })
    }

    /// What stands in a group's own table.
    fn beside(&self) -> Option<String> {
        let mut text = String::new();
        for factor in self.factors.iter().filter(|factor| factor.spot == Spot::Beside && factor.key != "shape") {
            if let Some(value) = self.text(Spot::Beside, &factor.key)? {
                let _ = writeln!(text, "{} = {value}", factor.key);
            }
        }
        Some(text)
    }

    /// A third site, on one platform or another, with as little as it needs.
    fn third(&self) -> String {
        let mut rng = Rng::from(seed_of((self.choice.seed, "third")));
        let platform = *rng.of(&[crate::suite::SS, crate::suite::LSW, crate::suite::OI]);
        let (address, net) = (
            if self.draft.six { "2001:db8:3::30" } else { "192.0.2.30" },
            if self.draft.six_inside() { "fd41:16:99::/64" } else { "10.77.0.0/24" },
        );
        let style = self.word(Spot::Site(1), "style").unwrap_or("policy-based");
        let mut text = format!("[site.third]\nplatform = \"{platform}\"\nstyle = \"{style}\"\n");
        let _ = writeln!(
            text,
            "gateway = {{ address = \"{address}\", outside = \"wan0\", inside = \"lan0\" }}\nnetworks = {{ hall = \"{net}\" }}"
        );
        if self.word(Spot::Tunnel, "routing") == Some("bgp") {
            text.push_str("as-number = 65033\n");
        }
        text
    }

    fn site(&self, end: usize, by_keys: bool, by_certificates: bool, certified: &mut Vec<String>) -> Option<String> {
        let spot = Spot::Site(end);
        let mut text = format!("[site.{}]\nplatform = \"{}\"\n", self.draft.names[end], self.choice.platforms[end]);
        let six = usize::from(self.draft.six);
        let usual = [["198.51.100.20", "2001:db8:1::20"], ["203.0.113.77", "2001:db8:2::77"]][end][six];
        let address = self.text(spot, "gateway.address")?.unwrap_or_else(|| format!("\"{usual}\""));
        let mut gateway = vec![format!("address = {address}")];
        gateway.extend(self.text(spot, "gateway.own-address")?.map(|own| format!("own-address = {own}")));
        gateway.push(format!("outside = {}", self.text(spot, "gateway.outside")?.unwrap_or_else(|| "\"wan0\"".to_owned())));
        let networks = &self.draft.networks[end];
        match self.text(spot, "gateway.inside")? {
            Some(inside) => gateway.push(format!("inside = {inside}")),
            None if networks.is_empty() => {}
            None => gateway.push("inside = \"lan0\"".to_owned()),
        }
        let _ = writeln!(text, "gateway = {{ {} }}", gateway.join(", "));
        if !networks.is_empty() {
            let named: Vec<_> = networks.iter().map(|(name, net)| format!("{name} = \"{net}\"")).collect();
            let _ = writeln!(text, "networks = {{ {} }}", named.join(", "));
        }
        certified.push(address.trim_matches('"').to_owned());
        for factor in self.factors.iter().filter(|factor| factor.spot == spot) {
            if ["name", "networks"].contains(&factor.key.as_str())
                || factor.key.starts_with("gateway.")
                || factor.key.starts_with("allows.")
            {
                continue;
            }
            if let Some(value) = self.text(spot, &factor.key)? {
                if factor.key == "identity" {
                    *certified = vec![value.split('"').nth(1).unwrap_or_default().to_owned()];
                }
                let _ = writeln!(text, "{} = {value}", factor.key);
            }
        }
        let allows: Vec<String> = self.inner(spot, "allows.")?.into_iter().map(|(key, value)| format!("{key} = {value}")).collect();
        if !allows.is_empty() {
            let _ = writeln!(text, "allows = {{ {} }}", allows.join(", "));
        }
        let file = ["first", "second"][end];
        if by_keys {
            let _ = writeln!(text, "keys = {{ public = \"keys/{file}.pub\", private = \"keys/{file}.key\" }}");
        }
        if by_certificates {
            let _ =
                writeln!(text, "keys = {{ certificate = \"keys/{file}.crt\", issuer = \"keys/ca.crt\", private = \"keys/{file}.key\" }}");
        }
        Some(text)
    }

    /// The keys of an inner table that were chosen.
    fn inner(&self, spot: Spot, prefix: &str) -> Option<Vec<(String, String)>> {
        let mut all = Vec::new();
        for factor in self.factors.iter().filter(|factor| factor.spot == spot) {
            let Some(key) = factor.key.strip_prefix(prefix).filter(|key| *key != "form") else { continue };
            if let Some(value) = self.text(spot, &factor.key)? {
                all.push((key.to_owned(), value));
            }
        }
        Some(all)
    }

    /// The lines of the tunnel's table but for its ends and its secret.
    fn tunnel(&self) -> Option<Vec<String>> {
        let mut lines = Vec::new();
        let mut weak = BTreeSet::new();
        for factor in self.factors.iter().filter(|factor| factor.spot == Spot::Tunnel) {
            if factor.key == "name" || factor.key.contains('.') {
                continue;
            }
            if let Some(value) = self.text(Spot::Tunnel, &factor.key)? {
                lines.push(format!("{} = {value}\n", factor.key));
            }
        }
        // Where only the daemons' timers rekey, short lives are waited for.
        let timed = self.choice.platforms.contains(&crate::suite::OI) || self.word(Spot::Tunnel, "version") == Some("ikev1");
        for (key, life) in [("ike-lifetime", "30m"), ("esp-lifetime", "10m")] {
            if timed && self.word(Spot::Tunnel, key).is_none() {
                lines.push(format!("{key} = \"{life}\"\n"));
            }
        }
        for prefix in ["ike.", "esp."] {
            if let Some(offer) = self.offer(prefix)? {
                lines.push(format!("{} = [{offer}]\n", prefix.trim_end_matches('.')));
            }
        }
        let kinds = [("encryption", Kind::Encryption), ("integrity", Kind::Integrity), ("prf", Kind::Prf), ("group", Kind::KeyExchange)];
        let named = kinds.iter().flat_map(|(key, kind)| ["ike.", "esp."].map(|prefix| (format!("{prefix}{key}"), *kind)));
        for (key, kind) in named.chain([("pfs".to_owned(), Kind::KeyExchange)]) {
            let Some(word) = self.word(Spot::Tunnel, &key) else { continue };
            if let Lookup::Found(row) = look_up(kind, word)
                && !row.weak.is_empty()
            {
                weak.insert(word);
            }
        }
        if !weak.is_empty() {
            let reasons: Vec<_> = weak.iter().map(|word| format!("\"{word}\" = \"nothing else there\"")).collect();
            lines.push(format!("allows-weak = {{ {} }}\n", reasons.join(", ")));
        }
        Some(lines)
    }

    /// The proposals of one kind of SA, if any of their keys was chosen, with what they need beside it.
    fn offer(&self, prefix: &str) -> Option<Option<String>> {
        let form = self.text(Spot::Tunnel, &format!("{prefix}form"))?;
        let mut keys: BTreeMap<String, String> = self.inner(Spot::Tunnel, prefix)?.into_iter().collect();
        if keys.is_empty() && form.is_none() {
            return Some(None);
        }
        let for_ike = prefix == "ike.";
        let cipher = keys.entry("encryption".to_owned()).or_insert_with(|| "\"aes-256-cbc\"".to_owned()).clone();
        let combined = matches!(look_up(Kind::Encryption, cipher.trim_matches('"')), Lookup::Found(row) if row.aead);
        let missing = if combined { "prf" } else { "integrity" };
        if for_ike || !combined {
            keys.entry(missing.to_owned()).or_insert_with(|| "\"sha2-256\"".to_owned());
        }
        if for_ike {
            keys.entry("group".to_owned()).or_insert_with(|| "\"ecp-256\"".to_owned());
        }
        if form.as_deref() == Some("lists") {
            let more = [("group", "\"modp-3072\""), ("prf", "\"sha2-384\""), ("integrity", "\"sha2-512\"")];
            for (key, other) in more {
                keys.entry(key.to_owned()).and_modify(|value| *value = format!("[{value}, {other}]"));
            }
            let other = if combined { "\"aes-128-gcm\"" } else { "\"aes-128-cbc\"" };
            keys.entry("encryption".to_owned()).and_modify(|value| *value = format!("[{value}, {other}]"));
        }
        let one: Vec<_> = keys.iter().map(|(key, value)| format!("{key} = {value}")).collect();
        let mut offer = format!("{{ {} }}", one.join(", "));
        if form.as_deref() == Some("two") {
            offer += if for_ike {
                ", { encryption = \"aes-128-cbc\", integrity = \"sha2-256\", group = \"modp-2048\" }"
            } else {
                ", { encryption = \"aes-128-cbc\", integrity = \"sha2-256\" }"
            };
        }
        Some(Some(offer))
    }

    /// A second tunnel between the same sites: what is the IKE SA's stays, what it carries is something else.
    fn twin(&self, lines: &[String]) -> Option<String> {
        const CHILD: [&str; 9] = ["carries", "appears-as", "mode", "carrier", "routing", "link", "services", "limited-to", "one-way"];
        let kept = lines.iter().filter(|line| !CHILD.iter().any(|key| line.starts_with(&format!("{key} ="))));
        let carried = match self.word(Spot::Tunnel, "carries") {
            Some("one pair") => {
                let first = self.text(Spot::Tunnel, "carries")??;
                let other =
                    self.draft.pairs().into_iter().map(|[one, two]| format!("[[\"{one}\", \"{two}\"]]")).find(|pair| *pair != first)?;
                format!("carries = {other}\n")
            }
            Some(_) => return None,
            None => "carries = \"gateways\"\n".to_owned(),
        };
        Some(kept.cloned().collect::<String>() + &carried)
    }
}
