//! Proposals and weak algorithms.

use super::{Decoder, Node, flag, in_file_order, list, printable, table, text};
use crate::description::{Allowance, Offer, Pfs};
use toml::de::DeTable;
use uspan_model::algorithm::{Kind, Lookup, Row, Transform, look_up, named, preset, usual};
use uspan_model::finding::{self as rules, nearest};
use uspan_model::gateway::{Proposal, Protocol};
use uspan_model::source::{Located, Span};

impl Decoder<'_> {
    pub(super) fn offer(&mut self, fields: &DeTable<'_>, name: &Located<String>) -> Option<Offer> {
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
            values: std::mem::take(&mut self.picked),
            ike_key: if ike_node.is_some() { "ike" } else { "strength" },
            esp_key: if esp_node.is_some() { "esp" } else { "strength" },
            ike_preset: ike_node.is_none(),
            esp_preset: esp_node.is_none(),
        };
        (self.findings.len() == before).then_some(offer)
    }

    pub(super) fn ike_proposal(&mut self, node: &Node<'_>) -> Option<Located<Proposal>> {
        let fields = table(node)?;
        let ciphers = self.pick(fields, Kind::Encryption);
        let integrities = self.pick(fields, Kind::Integrity);
        let prfs = self.pick(fields, Kind::Prf);
        let groups = self.pick(fields, Kind::KeyExchange);
        let (ciphers, groups) = (ciphers?, groups?);
        if !self.integrity_fits(node, fields, &ciphers, integrities.as_deref()) {
            return None;
        }
        let integrities = integrities.unwrap_or_default();
        let same_hashes: Vec<_> = integrities.iter().filter_map(|integrity| integrity.prf_of_hash()).collect();
        let prfs = match prfs {
            Some(prfs) => prfs,
            None if !fields.contains_key("prf") && !same_hashes.is_empty() => same_hashes,
            None => {
                if !fields.contains_key("prf") {
                    self.say(&rules::NO_PRF, node.span(), format!("`{}` leaves open which PRF is used", ciphers[0]));
                }
                return None;
            }
        };
        let transforms = [ciphers, integrities, prfs, groups].into_iter().flatten();
        Some(Located::new(Proposal::new(Protocol::Ike, transforms), node.span()))
    }

    pub(super) fn esp_proposal(&mut self, node: &Node<'_>) -> Option<Located<Proposal>> {
        let fields = table(node)?;
        let ciphers = self.pick(fields, Kind::Encryption);
        let integrities = self.pick(fields, Kind::Integrity);
        let ciphers = ciphers?;
        if !self.integrity_fits(node, fields, &ciphers, integrities.as_deref()) {
            return None;
        }
        let transforms = ciphers.into_iter().chain(integrities.unwrap_or_default());
        Some(Located::new(Proposal::new(Protocol::Esp, transforms), node.span()))
    }

    /// A combined-mode cipher has no integrity algorithm beside it; every other cipher has one.
    fn integrity_fits(&mut self, node: &Node<'_>, fields: &DeTable<'_>, ciphers: &[Transform], integrities: Option<&[Transform]>) -> bool {
        let plain = ciphers.iter().find(|cipher| !cipher.is_aead());
        match (plain, fields.get("integrity")) {
            (None, Some(extra)) => {
                self.say(&rules::INTEGRITY_WITH_AEAD, extra.span(), format!("`{}` protects integrity itself", ciphers[0]));
                false
            }
            (Some(cipher), None) => {
                self.say(&rules::NO_INTEGRITY, node.span(), format!("`{cipher}` needs an integrity algorithm beside it"));
                false
            }
            (Some(_), Some(_)) => integrities.is_some(),
            (None, None) => true,
        }
    }

    /// One algorithm or a list of them; nothing if one of them is wrong.
    fn pick(&mut self, fields: &DeTable<'_>, kind: Kind) -> Option<Vec<Transform>> {
        let node = fields.get(kind.word())?;
        let words: Vec<_> = match text(node) {
            Some(word) => vec![word],
            None => list(node).iter().filter_map(text).collect(),
        };
        let (mut found, mut wrong) = (Vec::new(), words.is_empty());
        for word in words {
            let (span, shown) = (word.span, printable(word.value));
            match (word.value.is_empty(), self.transform(kind, word)) {
                (false, Some(algorithm)) if found.contains(&algorithm) => {
                    self.say(&rules::SAME_PROPOSAL, span, format!("`{shown}` stands in this list already"));
                }
                (false, Some(algorithm)) => found.push(algorithm),
                _ => wrong = true,
            }
        }
        (!wrong).then_some(found)
    }

    fn transform(&mut self, kind: Kind, word: Located<&str>) -> Option<Transform> {
        let span = word.span;
        let row = if word.value.is_empty() { None } else { self.algorithm(kind, word) }?;
        self.picked.push(Located::new(row, span));
        Some(Transform::of(row))
    }

    pub(super) fn algorithm(&mut self, kind: Kind, word: Located<&str>) -> Option<&'static Row> {
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
                let hint = match (usual(kind, word.value), nearest(word.value, names)) {
                    (Some(row), _) => format!("That is `{}` here. ", row.name),
                    (None, Some(near)) => format!("did you mean `{near}`? "),
                    (None, None) => String::new(),
                };
                self.say(&rules::UNKNOWN_ALGORITHM, word.span, format!("there is no {} algorithm `{shown}`", kind.word())).remedy =
                    format!("{hint}`uspan algorithms` lists all of them.");
            }
        }
        None
    }

    pub(super) fn pfs(&mut self, fields: &DeTable<'_>, name: &Located<String>) -> Option<Located<Pfs>> {
        let Some(node) = fields.get("pfs") else { return Some(Located::new(Pfs::AsIke, name.span)) };
        let pfs = match (flag(node), text(node)) {
            (Some(true), _) => Pfs::AsIke,
            (Some(false), _) => Pfs::Off,
            (None, word) => Pfs::With(Transform::of(self.algorithm(Kind::KeyExchange, word?)?)),
        };
        Some(Located::new(pfs, node.span()))
    }

    pub(super) fn allowances(&mut self, fields: &DeTable<'_>) -> Vec<Allowance> {
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

/// The transforms of names; a combined-mode cipher has no integrity algorithm.
fn of_names<const N: usize>(protocol: Protocol, names: [(Kind, &str); N]) -> Proposal {
    Proposal::new(protocol, names.into_iter().filter(|(_, name)| !name.is_empty()).map(|(kind, name)| named(kind, name)))
}

fn preset_ike((cipher, integrity, prf, group): &(&str, &str, &str, &str)) -> Proposal {
    let names = [(Kind::Encryption, *cipher), (Kind::Integrity, *integrity), (Kind::Prf, *prf), (Kind::KeyExchange, *group)];
    of_names(Protocol::Ike, names)
}

fn preset_esp((cipher, integrity): &(&str, &str)) -> Proposal {
    of_names(Protocol::Esp, [(Kind::Encryption, *cipher), (Kind::Integrity, *integrity)])
}
