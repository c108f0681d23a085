//! Every value of every key beside every value of every other one.

use std::collections::{BTreeMap, BTreeSet};

use super::draft::Choice;
use super::{Seen, Trial, Unfit, Workshop};
use crate::fidelity::Rng;
use crate::suite::seed_of;

/// A value of a key.
type Said = (usize, usize);

/// Two values of two keys, the first key first.
type Two = (Said, Said);

/// What values need beside them to be taken, so that chance alone need not find it: names of keys with words of values.
const COMPANY: &[(&str, &[&str])] = &[
    ("routing=bgp", &["first.as-number=of 16 bits", "second.as-number=of 16 bits", "link=IPv4, two addresses", "carrier=gre"]),
    (
        "routing=bgp",
        &[
            "first.as-number=of 32 bits",
            "second.as-number=of 32 bits",
            "link=IPv4, four",
            "first.style=route-based",
            "second.style=route-based",
        ],
    ),
    ("link=", &["carrier=gre"]),
    ("link=", &["first.style=route-based", "second.style=route-based"]),
    ("mode=transport", &["carries=gateways"]),
    ("mode=transport", &["carrier=gre"]),
    ("mode=tunnel", &["carries=gateways"]),
    ("aggressive=", &["version=ikev1", "strength=common"]),
    ("version=ikev1", &["strength=common"]),
    ("version=ikev1", &["esp.encryption=aes-256-cbc"]),
    ("identity=subject", &["authentication=certificates"]),
    ("carries=everything", &["first.style=route-based", "second.style=route-based"]),
    ("carries=everything", &["carrier=gre"]),
    ("networks=none", &["carries=gateways"]),
    ("networks=the same at both", &["first.networks=the same at both", "second.networks=the same at both", "appears-as=both sites'"]),
    ("first.networks=IPv6", &["second.networks=IPv6"]),
    ("second.networks=IPv6", &["first.networks=IPv6"]),
    ("first.gateway.address=IPv6", &["second.gateway.address=IPv6"]),
    ("second.gateway.address=IPv6", &["first.gateway.address=IPv6"]),
    ("first.gateway.address=dynamic", &["first.identity=name"]),
    ("second.gateway.address=dynamic", &["second.identity=name", "initiator=the second site"]),
    ("own-address=", &["first.identity=name", "second.identity=name"]),
    ("beside.links", &["beside.shape=a star", "first.style=route-based", "second.style=route-based"]),
    ("beside.transit", &["beside.shape=a star", "first.style=route-based", "second.style=route-based"]),
    ("beside.", &["beside.shape=a star"]),
    ("beside.", &["beside.shape=a mesh"]),
    ("beside.shape=a second tunnel", &["carries=one pair", "first.networks=several sizes"]),
    ("esp-sas=", &["first.networks=several sizes"]),
    ("carries=all but one pair", &["first.networks=several sizes"]),
];

/// The pairs of values for two platforms, and what is known of each.
pub struct Cover {
    pub platforms: [&'static str; 2],
    /// Pairs that nobody tried; those of two algorithms first, so that they are taken last.
    open: Vec<Two>,
    /// How many there are.
    pub all: usize,
    /// Pairs that no company made acceptable, by the code that refuses them.
    pub refused: BTreeMap<Two, &'static str>,
}

impl Cover {
    /// All of them, but for those that came up before.
    pub fn new(workshop: &Workshop, platforms: [&'static str; 2], seen: &Seen) -> Cover {
        let mut known: BTreeSet<(String, String)> = BTreeSet::new();
        for line in
            seen.lines.iter().filter(|line| line["platforms"] == serde_json::json!(platforms) && line["failed"] == serde_json::json!([]))
        {
            let words: Vec<&str> = line["values"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_str).collect();
            for (i, one) in words.iter().enumerate() {
                known.extend(words[i + 1..].iter().map(|other| ((*one).to_owned(), (*other).to_owned())));
            }
        }
        let all = every_two(workshop);
        let count = all.len();
        let words: BTreeMap<Said, String> =
            all.iter().flat_map(|(one, other)| [*one, *other]).map(|said| (said, workshop.value_words(said.0, said.1))).collect();
        let mut open: Vec<Two> =
            all.into_iter().filter(|(one, other)| !known.contains(&(words[one].clone(), words[other].clone()))).collect();
        Rng::from(seed_of(platforms)).shuffle(&mut open);
        open.sort_by_key(|two| !of_algorithms(workshop, *two));
        Cover { platforms, open, all: count, refused: BTreeMap::new() }
    }

    /// How many are neither tried nor refused.
    pub fn left(&self) -> usize {
        self.open.len()
    }

    /// How many came up, and how many are refused, by the finding.
    pub fn counts(&self) -> String {
        let mut codes: BTreeMap<&str, usize> = BTreeMap::new();
        self.refused.values().for_each(|code| *codes.entry(code).or_default() += 1);
        let codes: Vec<_> = codes.iter().map(|(code, count)| format!("{count} {code}")).collect();
        let tried = self.all - self.open.len() - self.refused.len();
        format!("{tried} tried, {} refused ({}), {} open", self.refused.len(), codes.join(", "), self.open.len())
    }

    /// A choice that has some of the open pairs. Where only algorithms are left, it has nothing else, and what they decide is tried.
    pub fn next(&mut self, workshop: &Workshop) -> Option<Trial> {
        loop {
            let two = *self.open.last()?;
            let keys_alone = of_algorithms(workshop, two);
            match self.company(workshop, two) {
                Ok(choice) => {
                    let choice = self.grown(workshop, choice, keys_alone);
                    let said: BTreeSet<Said> = choice.values.iter().map(|(factor, value)| (*factor, *value)).collect();
                    self.open.retain(|(one, other)| !(said.contains(one) && said.contains(other)));
                    let name = format!("cover/{}-{}/{:016x}", self.platforms[0], self.platforms[1], choice.seed);
                    return Some(Trial { keys_alone, ..workshop.trial(name, choice) });
                }
                Err(code) => {
                    self.refused.insert(two, code);
                    self.open.pop();
                }
            }
        }
    }

    /// Two values, with what makes them acceptable; otherwise the code that refuses them alone.
    fn company(&self, workshop: &Workshop, two: Two) -> Result<Choice, &'static str> {
        const TRIES: usize = 40;
        let seed = seed_of((self.platforms, two));
        let bare = |seed| Choice { platforms: self.platforms, seed, values: [two.0, two.1].into() };
        let mut code = match workshop.taken(&bare(seed)) {
            Ok(_) => return Ok(bare(seed)),
            Err(Unfit::Refused(code)) => code,
            Err(Unfit::NoPlace) => "no place",
        };
        let words = [two.0, two.1].map(|(factor, value)| workshop.value_words(factor, value));
        let fits: Vec<&[&str]> =
            COMPANY.iter().filter(|(part, _)| words.iter().any(|word| word.contains(part))).map(|(_, company)| *company).collect();
        let mut rng = Rng::from(seed);
        for attempt in 0..TRIES {
            let mut choice = bare(seed.wrapping_add(attempt as u64));
            let company = fits.iter().filter(|_| rng.below(2) == 0).flat_map(|company| company.iter());
            for (factor, value) in company.filter_map(|word| workshop.said(word)) {
                choice.values.entry(factor).or_insert(value);
            }
            if attempt >= TRIES / 2 {
                let factor = rng.below(workshop.factors.len());
                choice.values.entry(factor).or_insert_with(|| rng.below(workshop.factors[factor].values.len()));
            }
            match workshop.taken(&choice) {
                Ok(_) => return Ok(choice),
                Err(Unfit::Refused(found)) if code == "no place" => code = found,
                Err(_) => {}
            }
        }
        Err(code)
    }

    /// The same with as many open pairs as it takes.
    fn grown(&self, workshop: &Workshop, mut choice: Choice, keys_alone: bool) -> Choice {
        /// More than that nobody writes, and a failure takes long to be made smaller.
        const MOST: usize = 60;
        let mut gain: BTreeMap<Said, BTreeSet<Said>> = BTreeMap::new();
        for (one, other) in &self.open {
            gain.entry(*one).or_default().insert(*other);
            gain.entry(*other).or_default().insert(*one);
        }
        let mut rng = Rng::from(choice.seed);
        for factor in workshop.shuffled(&mut rng) {
            if choice.values.contains_key(&factor) || choice.values.len() >= MOST || keys_alone && !workshop.factors[factor].of_algorithms()
            {
                continue;
            }
            let worth = |value: usize| {
                let open = gain.get(&(factor, value));
                choice.values.iter().filter(|(factor, value)| open.is_some_and(|open| open.contains(&(**factor, **value)))).count()
            };
            let mut values: Vec<(usize, usize)> = (0..workshop.factors[factor].values.len()).map(|value| (worth(value), value)).collect();
            values.sort_by_key(|(worth, value)| (std::cmp::Reverse(*worth), seed_of((choice.seed, factor, value))));
            for (_, value) in values.into_iter().take(3).filter(|(worth, _)| *worth > 0) {
                if workshop.add(&mut choice, factor, value) {
                    break;
                }
            }
        }
        choice
    }
}

/// Whether both are algorithms.
fn of_algorithms(workshop: &Workshop, two: Two) -> bool {
    [two.0, two.1].iter().all(|(factor, _)| workshop.factors[*factor].of_algorithms())
}

/// Every two values of two keys.
fn every_two(workshop: &Workshop) -> Vec<Two> {
    let mut all = Vec::new();
    for (i, one) in workshop.factors.iter().enumerate() {
        for (j, other) in workshop.factors.iter().enumerate().skip(i + 1) {
            let values = (0..one.values.len()).flat_map(|a| (0..other.values.len()).map(move |b| ((i, a), (j, b))));
            all.extend(values);
        }
    }
    all
}
