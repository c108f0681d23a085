//! A filled-in sheet, read back into the description: in our words or in the partner's.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};

use ipnet::IpNet;
use toml_edit::{Array, Decor, DocumentMut, InlineTable, Item, TableLike, Value};

use super::form::{Form, FormField, IKE, LISTS, PER_PAIR, REMARKS, TOGETHER, in_list};
use super::refilled::{FilledIn, Refilled};
use super::rows::{SheetCell, rows};
use uspan_description::description::{Description, is_name};
use uspan_model::algorithm::{Kind, Transform, UsualSpelling};
use uspan_model::duration::{duration_words, usual_duration};
use uspan_model::finding::{self as rules, Finding, any_stops};
use uspan_model::gateway::Endpoint;
use uspan_model::source::{Source, Span};

/// What is wrong with a value: where in it, and what was expected.
struct Misread {
    at: Option<Span>,
    expected: String,
}

fn expected<T>(expected: &str) -> Result<T, Misread> {
    Err(Misread { at: None, expected: expected.to_owned() })
}

/// Reads a filled-in sheet back into the description that it came from. The text of the description keeps its remarks.
pub fn fill(description: &Description, form: &Form, sheet: &Source) -> Refilled {
    let Ok(document) = description.source.text().parse::<DocumentMut>() else { return Refilled::default() };
    let mut filler = Filler { form, sheet, document, refilled: Refilled::default() };
    let filled = filler.filled();
    for (code, cell) in &filled {
        let proposed = form.fields.iter().find(|field| field.code == *code).map_or("", |field| &field.proposed);
        filler.refilled.changed.push(FilledIn { field: code.clone(), before: proposed.to_owned(), written: cell.text.clone() });
        if in_list(code).is_some() {
            continue;
        }
        if let Err(misread) = filler.put(code, &cell.text) {
            filler.misread(code, cell, misread);
        }
    }
    filler.lists(&filled);
    if !any_stops(&filler.refilled.findings) {
        filler.refilled.text = Some(filler.document.to_string());
    }
    filler.refilled
}

struct Filler<'a> {
    form: &'a Form,
    sheet: &'a Source,
    document: DocumentMut,
    refilled: Refilled,
}

/// Words for none; a blank is no answer at all.
pub(super) fn is_none(value: &str) -> bool {
    const NONE: [&str; 10] = ["n/a", "na", "none", "no", "nil", "off", "disabled", "not used", "not applicable", "unused"];
    let lower = value.to_lowercase();
    NONE.contains(&lower.trim_end_matches('.')) || value.chars().all(|c| matches!(c, '-' | '\u{2013}' | '\u{2014}'))
}

/// Whether nothing was filled in.
fn is_blank(value: &str) -> bool {
    value.chars().all(|c| c.is_whitespace() || matches!(c, '_' | '.' | '\u{2026}'))
}

/// Whether a code is that of a further network, with its name.
pub(super) fn network_name(code: &str) -> Option<&str> {
    code.strip_prefix("network ").map(str::trim).filter(|name| is_name(name))
}

impl Filler<'_> {
    /// The values that were filled in, by the codes of their fields, in the order of the form; further networks behind those.
    fn filled(&mut self) -> Vec<(String, SheetCell)> {
        let mut found: BTreeMap<String, SheetCell> = BTreeMap::new();
        for row in rows(self.sheet, &|code| self.field(code).is_some()) {
            let code = row.code.text.trim_matches('`').to_owned();
            let field = self.field(&code);
            let value = SheetCell { text: row.value.text.trim_matches('`').to_owned(), ..row.value };
            // What stood in a sheet that is not of this form is of another one.
            let is_further = !row.is_proposed && network_name(&code).is_some();
            match field {
                None if code.is_empty() || is_blank(&value.text) && is_further => {}
                None if is_further => drop(found.insert(code, value)),
                None => {
                    let message = format!("`{code}` is no field of the sheet for {}", self.form.theirs);
                    self.refilled.findings.push(Finding::new(&rules::SHEET_FIELD, message).at(self.sheet.place(row.code.span)));
                }
                Some(field) if is_blank(&value.text) || value.text == field.proposed => {}
                Some(field) if is_none(&value.text) && (field.proposed.is_empty() || field.proposed == "none") => {}
                Some(field) => drop(found.insert(field.code.clone(), value)),
            }
        }
        let known = self.form.fields.iter().filter_map(|field| found.remove_entry(&field.code)).collect::<Vec<_>>();
        known.into_iter().chain(found).collect()
    }

    fn field(&self, code: &str) -> Option<&FormField> {
        let code = code.trim_matches('`');
        self.form.fields.iter().find(|field| field.code.eq_ignore_ascii_case(code))
    }

    /// A value that is not understood, at its place in the sheet.
    fn misread(&mut self, code: &str, cell: &SheetCell, Misread { at, expected }: Misread) {
        let within = at.filter(|_| cell.is_plain).map(|at| Span { start: cell.span.start + at.start, end: cell.span.start + at.end });
        let message = format!("`{}` stands for `{code}`; expected is {expected}", cell.text);
        self.refilled.findings.push(Finding::new(&rules::SHEET_VALUE, message).at(self.sheet.place(within.unwrap_or(cell.span))));
    }

    /// Puts lists of proposals: each stands for itself; beside a strength there is none, and one of the two needs the other.
    fn lists(&mut self, filled: &[(String, SheetCell)]) {
        let answer = |code: &str| filled.iter().find(|(known, _)| known == code).map(|(_, cell)| cell);
        let fields = || self.form.fields.iter().filter(|field| field.list().is_some());
        if !fields().any(|field| answer(&field.code).is_some()) {
            return;
        }
        let mut weak = BTreeSet::new();
        let mut pfs = None;
        for list in LISTS {
            let mut array = Array::new();
            for field in self.form.fields.iter().filter(|field| field.list() == Some(list)) {
                let corrected = answer(&field.code);
                let value = corrected.map_or(field.proposed.as_str(), |cell| cell.text.as_str());
                if is_none(value) {
                    continue;
                }
                match proposals(value, list == IKE) {
                    Ok(found) => {
                        found.tables.into_iter().for_each(|table| array.push(Value::InlineTable(table)));
                        weak.extend(found.weak.into_iter().filter(|_| corrected.is_some()));
                        pfs = pfs.or(found.pfs.filter(|_| corrected.is_some()));
                        if let (Some(beside), Some(cell)) = (found.beside, corrected) {
                            let message = format!("{beside} beside a cipher in combined mode changes nothing, and is left out");
                            self.refilled.findings.push(Finding::new(&rules::SHEET_LEFT_OUT, message).at(self.sheet.place(cell.span)));
                        }
                    }
                    Err(misread) => match corrected {
                        Some(cell) => self.misread(&field.code, &cell.clone(), misread),
                        None => self.misread(&field.code, &SheetCell::default(), misread),
                    },
                }
            }
            if let Some(table) = self.tunnel() {
                table.remove("strength");
                set(table, list, Value::Array(array));
            }
        }
        if let (Some(group), None) = (pfs, answer("pfs")) {
            self.refilled.changed.push(FilledIn { field: "pfs".to_owned(), written: group.to_owned(), ..FilledIn::default() });
            self.say_of_tunnel("pfs", group.into());
        }
        self.allow(weak);
    }

    /// What they have nothing better for is allowed, with that as the reason; checks warn of it from then on.
    fn allow(&mut self, weak: BTreeSet<&'static str>) {
        let reason = format!("{} has nothing better, by its sheet", self.form.theirs);
        let Some(table) = self.tunnel() else { return };
        let mut allowed = match table.get("allows-weak").and_then(Item::as_inline_table) {
            Some(there) => there.clone(),
            None if table.get("allows-weak").is_some() => return,
            None => InlineTable::new(),
        };
        let mut added = Vec::new();
        for name in weak {
            if !allowed.contains_key(name) {
                allowed.insert(name, reason.as_str().into());
                added.push(name);
            }
        }
        if !added.is_empty() {
            set(table, "allows-weak", Value::InlineTable(allowed));
            let written = added.join(", ");
            self.refilled.changed.push(FilledIn { field: "allows-weak".to_owned(), written, ..FilledIn::default() });
        }
    }

    fn site(&mut self) -> Option<&mut dyn TableLike> {
        self.document.get_mut("site")?.get_mut(&self.form.theirs)?.as_table_like_mut()
    }

    fn tunnel(&mut self) -> Option<&mut dyn TableLike> {
        self.document.get_mut("tunnel")?.get_mut(&self.form.tunnel)?.as_table_like_mut()
    }

    fn say_of_site(&mut self, key: &str, value: Value) {
        if let Some(site) = self.site() {
            set(site, key, value);
        }
    }

    fn say_of_tunnel(&mut self, key: &str, value: Value) {
        if let Some(tunnel) = self.tunnel() {
            set(tunnel, key, value);
        }
    }

    fn gateway(&mut self) -> Option<&mut dyn TableLike> {
        self.site()?.get_mut("gateway")?.as_table_like_mut()
    }

    /// Puts a value where the description has it.
    fn put(&mut self, code: &str, value: &str) -> Result<(), Misread> {
        match code {
            // What it is called nobody here can check: it is kept as a remark.
            "platform" => self.say_of_site("note", format!("{} runs {}", self.form.theirs, value).into()),
            "address" => {
                let value = without_brackets(value).trim_end_matches("/32").trim_end_matches("/128");
                let changes = ["dynamic", "dhcp", "changing", "not fixed"].contains(&value.to_lowercase().as_str());
                if is_none(value) || !changes && Endpoint::read(value).is_none() {
                    return expected("an address, a DNS name or `dynamic`");
                }
                if let Some(gateway) = self.gateway() {
                    set(gateway, "address", if changes { "dynamic" } else { value }.into());
                }
            }
            "own-address" => {
                let value = without_brackets(value);
                if is_none(value) {
                    if let Some(gateway) = self.gateway() {
                        gateway.remove("own-address");
                    }
                } else if value.parse::<IpAddr>().is_ok() {
                    if let Some(gateway) = self.gateway() {
                        set(gateway, "own-address", value.into());
                    }
                } else {
                    return expected("an address");
                }
            }
            "identity" if is_none(value) => {
                if let Some(site) = self.site() {
                    site.remove("identity");
                }
            }
            "identity" => {
                let Some((kind, name)) = identity(value) else {
                    return expected("an address, a DNS name, a mail-like name, a subject, or `key-id:` and a name without form");
                };
                let mut table = InlineTable::new();
                table.insert(kind, name.into());
                self.say_of_site("identity", Value::InlineTable(table));
            }
            "key-exchange" => match version(value) {
                Some(word) => self.say_of_tunnel("version", word.into()),
                None => return expected("IKEv1 or IKEv2"),
            },
            "pfs" if is_none(value) => self.say_of_tunnel("pfs", false.into()),
            "pfs" => match group(value) {
                Some(group) => self.say_of_tunnel("pfs", group.into()),
                None => return expected("a group by its number or its name, or `none`"),
            },
            "esp-sas" => match several(value) {
                Some(word) => self.say_of_tunnel("esp-sas", word.into()),
                None => return Err(Misread { at: None, expected: format!("`{PER_PAIR}` or `{TOGETHER}`") }),
            },
            "liveness" if is_none(value) => self.say_of_tunnel("liveness", "off".into()),
            "ike-lifetime" | "esp-lifetime" | "liveness" => match usual_duration(value).filter(|life| !life.is_zero()) {
                Some(life) => self.say_of_tunnel(code, duration_words(life).into()),
                None => return expected("a time such as `8 h`, `480 minutes` or `28800`"),
            },
            "initiator" => match self.initiator(value) {
                Some(who) => self.say_of_tunnel("initiator", who.into()),
                None => {
                    return Err(Misread {
                        at: None,
                        expected: format!("`{}`, `{}` or `either`", self.form.titles[0], self.form.titles[1]),
                    });
                }
            },
            _ if REMARKS.contains(&code) => self.remark(code, value),
            network => return self.network(network, value),
        }
        Ok(())
    }

    fn initiator(&self, value: &str) -> Option<String> {
        let lower = value.to_lowercase();
        let among = |words: &[&str]| words.contains(&lower.trim_end_matches('.'));
        let [theirs, ours] = [0, 1].map(|end| self.form.titles[end].to_lowercase());
        if [&self.form.theirs, &theirs].contains(&&lower) || among(&["we", "we do", "us", "our side", "our end", "initiator", "initiate"]) {
            Some(self.form.theirs.clone())
        } else if [&self.form.ours, &ours].contains(&&lower)
            || among(&["you", "you do", "your side", "your end", "responder", "respond only", "responder only", "answer only", "passive"])
        {
            Some(self.form.ours.clone())
        } else {
            among(&["either", "both", "any", "bidirectional", "initiator and responder"]).then(|| "either".to_owned())
        }
    }

    /// What is for people is kept in the tunnel's remark.
    fn remark(&mut self, code: &str, value: &str) {
        let Some(tunnel) = self.tunnel() else { return };
        let label = code.replace('-', " ");
        let before = tunnel.get("note").and_then(Item::as_str).map(|note| format!("{note}; ")).unwrap_or_default();
        let plain: String = value.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        set(tunnel, "note", format!("{before}{label}: {plain}").into());
    }

    /// One network or several, of which the first has the name, and the others that with a number behind it.
    fn network(&mut self, code: &str, value: &str) -> Result<(), Misread> {
        let Some(name) = network_name(code) else { return expected("a network") };
        if is_none(value) {
            if let Some(nets) = self.site().and_then(|site| site.get_mut("networks")).and_then(Item::as_table_like_mut) {
                nets.remove(name);
            }
            return Ok(());
        }
        let found = networks(value)?;
        let is_new = self.form.fields.iter().all(|field| field.code != code);
        let theirs = self.form.theirs.clone();
        let Some(nets) = self.site().and_then(|site| site.get_mut("networks")).and_then(Item::as_table_like_mut) else {
            return expected("nothing: a host has no networks");
        };
        let mut added = Vec::new();
        for (at, net) in found.iter().enumerate() {
            let name = match at {
                0 => name.to_owned(),
                _ => (at + 1..).map(|number| format!("{name}-{number}")).find(|name| !nets.contains_key(name)).unwrap_or_default(),
            };
            set(nets, &name, net.to_string().into());
            if is_new || at > 0 {
                added.push(name);
            }
        }
        for one in added {
            self.carry(&theirs, name, &one, is_new);
        }
        Ok(())
    }

    /// Where the pairs that may cross are listed, a further network is in the same ones as the network that it stands beside; one of its
    /// own in all.
    fn carry(&mut self, site: &str, beside: &str, network: &str, is_new: bool) {
        let Some(tunnel) = self.tunnel() else { return };
        let first = tunnel.get("between").and_then(Item::as_array).and_then(|ends| ends.get(0)?.as_str().map(str::to_owned));
        let theirs = usize::from(first.as_deref() != Some(site));
        let Some(pairs) = tunnel.get_mut("carries").and_then(Item::as_array_mut) else { return };
        let mut ours: Vec<String> = Vec::new();
        for pair in pairs.iter().filter_map(Value::as_array) {
            let names: Vec<_> = pair.iter().filter_map(Value::as_str).collect();
            if let [one, other] = names.as_slice() {
                let [near, far] = if theirs == 0 { [*other, *one] } else { [*one, *other] };
                if (is_new || far == beside) && !ours.iter().any(|known| known == near) {
                    ours.push(near.to_owned());
                }
            }
        }
        for near in ours {
            let pair: Array =
                if theirs == 0 { [network, &near].into_iter().collect() } else { [near.as_str(), network].into_iter().collect() };
            pairs.push(Value::Array(pair));
        }
    }
}

/// A value in place of another one, with the remark that stands behind it.
fn set(table: &mut dyn TableLike, key: &str, mut value: Value) {
    if let Some(Item::Value(old)) = table.get(key) {
        *value.decor_mut() = old.decor().clone();
    } else if let Some((_, Item::Value(last))) = table.iter_mut().last() {
        // The space before a closing brace moves behind the new last one.
        let space =
            last.decor().suffix().and_then(|suffix| suffix.as_str()).filter(|suffix| !suffix.is_empty() && suffix.trim().is_empty());
        if let Some(space) = space.map(str::to_owned) {
            last.decor_mut().set_suffix("");
            *value.decor_mut() = Decor::new(" ", space);
        }
    }
    table.insert(key, Item::Value(value));
}

/// What stands before a bracket: the rest explains it.
fn without_brackets(value: &str) -> &str {
    value.split_once('(').map_or(value, |(head, _)| head).trim()
}

/// How several pairs of networks travel, in whatever words.
fn several(value: &str) -> Option<&'static str> {
    let lower = value.to_lowercase();
    let says = |words: &[&str]| words.iter().any(|word| lower.contains(word));
    match (says(&["each", "per ", "per-", "separate", "individual"]), says(&["all", "single", "together", "common"])) {
        (true, false) => Some("per-pair"),
        (false, true) => Some("together"),
        _ => None,
    }
}

fn version(value: &str) -> Option<&'static str> {
    let plain: String = value.to_lowercase().chars().filter(char::is_ascii_alphanumeric).collect();
    let plain = plain.trim_start_matches("ike").trim_start_matches("version").trim_start_matches('v').trim_end_matches("only");
    match plain {
        "1" => Some("ikev1"),
        "2" => Some("ikev2"),
        _ => None,
    }
}

/// A group by its number, its name, or in words.
fn group(value: &str) -> Option<&'static str> {
    let text = match value.trim().trim_start_matches("yes").trim_start_matches([',', ' ', ':']) {
        number if number.parse::<u16>().is_ok() => format!("group {number}"),
        words => words.to_owned(),
    };
    let found = UsualSpelling::read(&text).ok()?;
    match (found.groups.as_slice(), found.all().count()) {
        ([group], 1) => group.row().map(|row| row.name),
        _ => None,
    }
}

/// Labels of the kinds of identities, as people and other programs write them.
const LABELS: [(&str, &str); 22] = [
    ("fqdn", "name"),
    ("id_fqdn", "name"),
    ("dns name", "name"),
    ("dns", "name"),
    ("hostname", "name"),
    ("domain name", "name"),
    ("ip address", "address"),
    ("ipv4 address", "address"),
    ("ipv6 address", "address"),
    ("ipv4", "address"),
    ("ip", "address"),
    ("address", "address"),
    ("user fqdn", "mail"),
    ("user-fqdn", "mail"),
    ("rfc822", "mail"),
    ("e-mail", "mail"),
    ("email", "mail"),
    ("key-id", "free"),
    ("key id", "free"),
    ("keyid", "free"),
    ("subject", "subject"),
    ("dn", "subject"),
];

/// The kind of an identity, as the description calls it, and the identity.
fn identity(value: &str) -> Option<(&'static str, &str)> {
    let lower = value.to_ascii_lowercase();
    let labelled = LABELS.iter().find_map(|(label, kind)| {
        let rest = lower.strip_prefix(label).filter(|rest| rest.starts_with([':', ' ', '=']))?;
        Some((*kind, value[value.len() - rest.len()..].trim_start_matches([':', '=', ' '])))
    });
    let (kind, name) = labelled.unwrap_or_else(|| {
        let kind = if value.parse::<IpAddr>().is_ok() {
            "address"
        } else if value.starts_with('@') {
            "name"
        } else if value.contains('=') {
            "subject"
        } else if value.contains('@') {
            "mail"
        } else {
            "name"
        };
        (kind, value)
    });
    let name = if kind == "name" { name.trim_start_matches('@') } else { name };
    let fits = match kind {
        "address" => name.parse::<IpAddr>().is_ok(),
        "subject" => name.contains('='),
        _ => !name.is_empty() && !name.contains(char::is_whitespace),
    };
    fits.then_some((kind, name))
}

/// Networks with blanks, commas or semicolons between them; a mask may stand for the length.
fn networks(value: &str) -> Result<Vec<IpNet>, Misread> {
    let separates = |c: char| c.is_whitespace() || matches!(c, ',' | ';');
    let mut found: Vec<IpNet> = Vec::new();
    let mut words = value.split(separates).filter(|word| !word.is_empty() && !matches!(*word, "and" | "&" | "mask")).peekable();
    while let Some(word) = words.next() {
        let start = word.as_ptr() as usize - value.as_ptr() as usize;
        let wrong = |expected: String| Misread { at: Some(Span { start, end: start + word.len() }), expected };
        let (address, length) = match word.split_once('/') {
            Some((address, length)) => (address, Some(length)),
            None => (word, words.next_if(|next| next.starts_with('/') || mask(next).is_some_and(|length| length > 0))),
        };
        let address: IpAddr = address.parse().map_err(|_| wrong("networks such as `10.73.16.0/20`".to_owned()))?;
        let whole = if address.is_ipv4() { 32 } else { 128 };
        let length = match length.map(|length| length.trim_start_matches('/')) {
            None => whole,
            Some(length) => {
                length.parse().ok().or_else(|| mask(length)).ok_or_else(|| wrong("a length such as `/20`, or a mask".to_owned()))?
            }
        };
        let net = IpNet::new(address, length).map_err(|_| wrong(format!("a length of at most {whole}")))?;
        if net != net.trunc() {
            return Err(wrong(format!("a network without host bits: `{}`", net.trunc())));
        }
        found.push(net);
    }
    if found.is_empty() { expected("a network such as `10.73.16.0/20`") } else { Ok(found) }
}

/// The length of a mask in dots.
fn mask(text: &str) -> Option<u8> {
    let bits = u32::from(text.parse::<Ipv4Addr>().ok()?);
    let length = bits.leading_ones();
    (bits.checked_shl(length).unwrap_or(0) == 0).then(|| u8::try_from(length).ok())?
}

/// A proposal in the partner's words, as the description has it.
#[derive(Default)]
struct FilledProposal {
    tables: Vec<InlineTable>,
    /// Names of what is weak among it.
    weak: Vec<&'static str>,
    /// The group that stands beside ESP.
    pfs: Option<&'static str>,
    /// What has no effect.
    beside: Option<String>,
}

/// Reads a proposal; combined-mode ciphers and others stand in one of their own.
fn proposals(text: &str, for_ike: bool) -> Result<FilledProposal, Misread> {
    const SUCH: &str = "an algorithm of each kind, such as `AES-256, SHA-256, group 14`, or `none`";
    let read = UsualSpelling::read(text)
        .map_err(|(at, why)| Misread { expected: format!("{SUCH}; `{}`: {why}", &text[at.start..at.end]), at: Some(at) })?;
    let lacks = |what: &str| Misread { at: None, expected: format!("{what} among them: {SUCH}") };
    if read.ciphers.is_empty() {
        return Err(lacks("a cipher"));
    }
    if for_ike && read.groups.is_empty() {
        return Err(lacks("a group"));
    }
    let [combined, plain]: [Vec<Transform>; 2] = {
        let (combined, plain) = read.ciphers.iter().partition(|cipher| cipher.is_aead());
        [combined, plain]
    };
    let of_hashes: Vec<Transform> = read.hashes.iter().filter_map(|hash| hash.prf_of_hash()).collect();
    let mut found = FilledProposal::default();
    if !combined.is_empty() {
        let mut table = InlineTable::new();
        table.insert("encryption", names(&combined));
        if for_ike {
            let prfs = if read.prfs.is_empty() { &of_hashes } else { &read.prfs };
            if prfs.is_empty() {
                return Err(lacks("a PRF, such as `SHA-384`"));
            }
            table.insert("prf", names(prfs));
            table.insert("group", names(&read.groups));
        } else if plain.is_empty() && !read.hashes.is_empty() {
            found.beside = Some(read.hashes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "));
        }
        found.tables.push(table);
    }
    if !plain.is_empty() {
        let mut table = InlineTable::new();
        table.insert("encryption", names(&plain));
        if read.hashes.is_empty() {
            return Err(lacks("an integrity algorithm, such as `SHA-256`"));
        }
        table.insert("integrity", names(&read.hashes));
        if for_ike {
            if !read.prfs.is_empty() && read.prfs != of_hashes {
                table.insert("prf", names(&read.prfs));
            }
            table.insert("group", names(&read.groups));
        }
        found.tables.push(table);
    }
    if !for_ike {
        found.pfs = read.groups.first().and_then(|group| group.row()).map(|row| row.name);
    }
    let idle = found.beside.is_some();
    let counts = |one: &Transform| !(idle && one.kind == Kind::Integrity);
    let rows = read.all().filter(counts).filter_map(Transform::row);
    found.weak = rows.filter(|row| !row.weak.is_empty()).map(|row| row.name).collect();
    Ok(found)
}

/// One name, or a list of them.
fn names(list: &[Transform]) -> Value {
    match list {
        [one] => one.to_string().into(),
        several => Value::Array(several.iter().map(ToString::to_string).collect()),
    }
}
