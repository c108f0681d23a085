//! The gateways that are judged.

use std::borrow::Cow;

use uspan_dialects::profile::Behaviour;
use uspan_model::gateway::{Gateway, KnownAddresses, Tree};
use uspan_model::secret::Secret;
use uspan_model::source::{COVERED, Place, shown};

/// A gateway that takes part.
#[derive(Clone, Copy, Debug)]
pub struct Actor<'a> {
    /// As it was read.
    pub reading: ReadGateway<'a>,
    /// How its platform behaves.
    pub behaviour: &'a Behaviour,
    /// Where it stands, as far as that is known beside its files.
    pub stands: KnownAddresses,
}

/// A gateway as its files say.
#[derive(Clone, Copy, Debug)]
pub struct ReadGateway<'a> {
    /// What it is called in what is said.
    pub name: &'a str,
    /// As it was read.
    pub gateway: &'a Gateway,
    /// Whether its files leave open which end of a connection is its own.
    pub ends_open: bool,
    /// The files that it was read from, for its own spelling; nothing where it was never written.
    pub tree: Option<&'a Tree>,
}

impl ReadGateway<'_> {
    /// The line of a file at a place, or the statement where that has several; nothing where a secret stands in it.
    pub fn spelling(&self, place: &Place) -> Option<String> {
        let text = &self.tree?.files.get(&*place.file)?.text;
        let spelled = text.get(place.span.range())?;
        let start = text[..place.span.start].rfind('\n').map_or(0, |at| at + 1);
        let end = text[place.span.end..].find('\n').map_or(text.len(), |at| place.span.end + at);
        let whole = if spelled.contains('\n') { spelled } else { &text[start..end] };
        let shows =
            |secret: &Secret| whole.contains(&*String::from_utf8_lossy(secret.expose())) || whole.contains(secret.to_hex().as_str());
        if self.gateway.secrets.iter().any(|entry| shows(&entry.secret)) {
            return None;
        }
        // A statement over several lines ends each but the last with a backslash. What is covered does not even tell its length.
        let words = whole.split_whitespace().filter(|word| *word != "\\");
        let mut words: Vec<_> = words.map(|word| if word.contains(COVERED) { Cow::Borrowed("…") } else { shown(word) }).collect();
        words.dedup_by(|one, other| *one == "…" && *other == "…");
        Some(words.join(" "))
    }
}
