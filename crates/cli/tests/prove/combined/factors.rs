//! What a description can say, from the table of the language: each key at each place where it can stand, with its values.

use uspan_core::Context;
use uspan_core::algorithm::Kind;
use uspan_core::language::{self, Key, Shape};

use super::forms::{self, Form};

/// Where a key stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Spot {
    /// At a site: the first one of the tunnel, or the second.
    Site(usize),
    Tunnel,
    /// What a description has beside: a group in place of the tunnel, a second tunnel, a third site.
    Beside,
}

/// A key at a place.
pub struct Factor {
    pub spot: Spot,
    /// The key, with a dot before that of an inner table.
    pub key: String,
    pub values: Vec<Value>,
}

/// A value of a key, or a kind of values.
pub struct Value {
    /// What a table calls it.
    pub word: String,
    pub form: Form,
}

impl Factor {
    /// Whether its values are algorithms of an SA.
    pub fn of_algorithms(&self) -> bool {
        let part = self.key.strip_prefix("ike.").or_else(|| self.key.strip_prefix("esp."));
        self.key == "pfs" || part.is_some_and(|part| Kind::ALL.iter().any(|kind| kind.word() == part))
    }

    /// Its name, alike for both sites.
    pub fn name(&self) -> String {
        match self.spot {
            Spot::Site(end) => format!("{}.{}", ["first", "second"][end], self.key),
            Spot::Tunnel => self.key.clone(),
            Spot::Beside => format!("beside.{}", self.key),
        }
    }
}

/// Keys whose values follow from others, and why they are none of their own.
pub const DERIVED: &[(&str, &str)] = &[
    ("platform", "each ordered pair of them is tried"),
    ("keys", "there where `authentication` asks for them"),
    ("gateway", "its keys are taken one by one"),
    ("identity", "one kind of it is one value"),
    ("allows", "its keys are taken one by one"),
    ("between", "the two sites"),
    ("secret", "there unless `authentication` says something else"),
    ("allows-weak", "the weak algorithms that are named"),
    ("ike", "its keys are taken one by one"),
    ("esp", "its keys are taken one by one"),
    ("compression", "every value of it but `false` is refused"),
];

/// Everything that can be said of two sites and a tunnel between them.
pub fn factors(context: &Context) -> Vec<Factor> {
    let mut all = Vec::new();
    for end in [0, 1] {
        let spot = Spot::Site(end);
        all.push(Factor { spot, key: "name".to_owned(), values: forms::of("name") });
        let identities = language::IDENTITY.iter().map(|key| Value { word: key.name.to_owned(), form: forms::identity(key.name) });
        all.push(Factor { spot, key: "identity".to_owned(), values: identities.collect() });
        add(&mut all, context, spot, "", language::SITE);
        add(&mut all, context, spot, "gateway.", language::GATEWAY);
        add(&mut all, context, spot, "allows.", language::ALLOWS);
    }
    all.push(Factor { spot: Spot::Tunnel, key: "name".to_owned(), values: forms::of("name") });
    add(&mut all, context, Spot::Tunnel, "", language::TUNNEL);
    for (prefix, keys) in [("ike.", language::IKE_PROPOSAL), ("esp.", language::ESP_PROPOSAL)] {
        add(&mut all, context, Spot::Tunnel, prefix, keys);
        all.push(Factor { spot: Spot::Tunnel, key: format!("{prefix}form"), values: forms::of("proposal.form") });
    }
    all.push(Factor { spot: Spot::Beside, key: "shape".to_owned(), values: forms::of("beside.shape") });
    for key in language::GROUP.iter().filter(|key| ["generation", "initiator", "links", "transit", "except"].contains(&key.name)) {
        all.push(Factor { spot: Spot::Beside, key: key.name.to_owned(), values: values(context, &format!("group.{}", key.name), key) });
    }
    all
}

fn add(all: &mut Vec<Factor>, context: &Context, spot: Spot, prefix: &str, keys: &'static [Key]) {
    for key in keys {
        let name = format!("{prefix}{}", key.name);
        if DERIVED.iter().any(|(derived, _)| *derived == name) {
            continue;
        }
        let values = values(context, &name, key);
        all.push(Factor { spot, key: name, values });
    }
}

/// The values of a key: those of its shape, and the forms that are known of it; its example where there is neither.
fn values(context: &Context, name: &str, key: &Key) -> Vec<Value> {
    let mut all = forms::of(name);
    all.extend(of_shape(context, name, &key.shape));
    if all.is_empty() {
        all.push(Value { word: "as in the example".to_owned(), form: Form::Literal(key.example.to_owned()) });
    }
    all
}

fn of_shape(context: &Context, name: &str, shape: &Shape) -> Vec<Value> {
    let literal = |word: &str, text: String| Value { word: word.to_owned(), form: Form::Literal(text) };
    match shape {
        Shape::Flag => ["true", "false"].map(|word| literal(word, word.to_owned())).into(),
        Shape::Word(choices) => choices(context).iter().map(|choice| literal(&choice.word, format!("\"{}\"", choice.word))).collect(),
        Shape::Either(shapes) => shapes.iter().flat_map(|shape| of_shape(context, name, shape)).collect(),
        // Algorithms are named once, alone; lists of them are a form of the proposal.
        Shape::Text { is, .. } if is.contains("algorithm") => {
            let last = name.rsplit('.').next().unwrap_or_default();
            let kind = Kind::ALL.into_iter().find(|kind| kind.word() == last).unwrap_or(Kind::KeyExchange);
            let rows = kind.rows().iter().filter(|row| !row.name.is_empty());
            rows.map(|row| literal(row.name, format!("\"{}\"", row.name))).collect()
        }
        _ => Vec::new(),
    }
}
