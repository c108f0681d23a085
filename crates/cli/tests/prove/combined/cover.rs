//! Every value of every key beside every value of every other one.

use std::collections::{BTreeMap, BTreeSet};

use super::draft::Choice;
use super::ledger::{self, NO_PLACE};
use super::{Trial, Unfit, Workshop};
use crate::fidelity::Rng;
use crate::suite::seed_of;

/// A value of a key.
pub type Said = (usize, usize);

/// Two values of two keys, the first key first.
pub type Two = (Said, Said);

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

/// What is known of two values.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Known {
    /// They came up together in a whole proof.
    Whole,
    /// Two algorithms, with what algorithms decide.
    Keys,
    /// Nothing made them acceptable: the code that refuses them.
    Refused(&'static str),
}

impl Known {
    /// The code that refuses them, where one does.
    pub fn code(&self) -> Option<&'static str> {
        match self {
            Known::Refused(code) => Some(code),
            Known::Whole | Known::Keys => None,
        }
    }
}

/// The pairs of values for two platforms, and what is known of each.
pub struct Cover {
    pub platforms: [&'static str; 2],
    /// Pairs that nobody tried; those of two algorithms first, so that they are taken last.
    open: Vec<Two>,
    known: BTreeMap<Two, Known>,
}

impl Cover {
    /// All of them, with what is known from runs before.
    pub fn new(workshop: &Workshop, platforms: [&'static str; 2]) -> Cover {
        let mut cover = Cover { platforms, open: Vec::new(), known: ledger::read(workshop, platforms) };
        let mut beside: BTreeMap<Said, Vec<Option<Known>>> = BTreeMap::new();
        for two in every_two(workshop) {
            for said in [two.0, two.1] {
                beside.entry(said).or_default().push(cover.known.get(&two).copied());
            }
        }
        // Values that are refused whatever stands beside them, by the code.
        let mut never: BTreeMap<Said, &'static str> = BTreeMap::new();
        for said in workshop.values() {
            let known = &beside[&said];
            if known.iter().any(|known| matches!(known, Some(Known::Whole | Known::Keys))) || known.iter().all(Option::is_some) {
                continue;
            }
            if let Err(code) = cover.company(workshop, &[said]) {
                never.insert(said, code);
            }
        }
        for two in every_two(workshop) {
            match never.get(&two.0).or(never.get(&two.1)) {
                Some(code) => _ = cover.known.insert(two, Known::Refused(code)),
                None if cover.known.contains_key(&two) => {}
                None => cover.open.push(two),
            }
        }
        Rng::from(seed_of(platforms)).shuffle(&mut cover.open);
        cover.open.sort_by_key(|two| !of_algorithms(workshop, *two));
        cover.keep(workshop);
        cover
    }

    /// Keeps what is known for the runs to come.
    pub fn keep(&self, workshop: &Workshop) {
        ledger::keep(workshop, self.platforms, &self.known);
    }

    /// Remembers what came up together.
    pub fn note(&mut self, workshop: &Workshop, trial: &Trial) {
        let said: Vec<Said> = trial.choice.values.iter().map(|(factor, value)| (*factor, *value)).collect();
        for (index, one) in said.iter().enumerate() {
            for other in &said[index + 1..] {
                let two = (*one, *other);
                if !trial.keys_alone {
                    self.known.insert(two, Known::Whole);
                } else if of_algorithms(workshop, two) {
                    self.known.entry(two).or_insert(Known::Keys);
                }
            }
        }
    }

    /// How many are neither tried nor refused.
    pub fn left(&self) -> usize {
        self.open.len()
    }

    /// A choice that has some of the open pairs. Where only algorithms are left, it has nothing else, and what they decide is tried.
    pub fn next(&mut self, workshop: &Workshop) -> Option<Trial> {
        loop {
            let two = *self.open.last()?;
            let keys_alone = of_algorithms(workshop, two);
            match self.company(workshop, &[two.0, two.1]) {
                Ok(choice) => {
                    let choice = self.grown(workshop, choice, keys_alone);
                    let said: BTreeSet<Said> = choice.values.iter().map(|(factor, value)| (*factor, *value)).collect();
                    self.open.retain(|(one, other)| !(said.contains(one) && said.contains(other)));
                    let name = format!("cover/{}-{}/{:016x}", self.platforms[0], self.platforms[1], choice.seed);
                    return Some(Trial { keys_alone, ..workshop.trial(name, choice) });
                }
                Err(code) => {
                    self.known.insert(two, Known::Refused(code));
                    self.open.pop();
                }
            }
        }
    }

    /// Values with what makes them acceptable; otherwise the code that refuses them alone.
    fn company(&self, workshop: &Workshop, said: &[Said]) -> Result<Choice, &'static str> {
        const TRIES: usize = 40;
        let seed = seed_of((self.platforms, said));
        let bare = |seed| Choice { platforms: self.platforms, seed, values: said.iter().copied().collect() };
        let mut code = match workshop.taken(&bare(seed)) {
            Ok(_) => return Ok(bare(seed)),
            Err(Unfit::Refused(code)) => code,
            Err(Unfit::NoPlace) => NO_PLACE,
        };
        let words: Vec<String> = said.iter().map(|(factor, value)| workshop.value_words(*factor, *value)).collect();
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
                Err(Unfit::Refused(found)) if code == NO_PLACE => code = found,
                Err(_) => {}
            }
        }
        Err(code)
    }

    /// The same with as many open pairs as it takes.
    fn grown(&self, workshop: &Workshop, mut choice: Choice, keys_alone: bool) -> Choice {
        /// A failure of more takes long to be made smaller.
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
pub fn every_two(workshop: &Workshop) -> Vec<Two> {
    let mut all = Vec::new();
    for (i, one) in workshop.factors.iter().enumerate() {
        for (j, other) in workshop.factors.iter().enumerate().skip(i + 1) {
            let values = (0..one.values.len()).flat_map(|a| (0..other.values.len()).map(move |b| ((i, a), (j, b))));
            all.extend(values);
        }
    }
    all
}
