//! Descriptions that combine whatever the language has: what is not refused comes up at the first try, whole, and carries nothing else.
//!
//! What can be said comes from the language's own table (`factors.rs`), sizes and forms of values from `forms.rs`; `draft.rs` writes the
//! description. Whether it is refused the program itself says.

mod cover;
mod draft;
mod factors;
mod forms;
pub mod found;
pub mod ledger;
pub mod refused;
mod shrink;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use serde_json::{Value as Json, json};
use uspan_core::{Certificate, Description, Finding, KeyFile, PublicKey, Secret, Source, Supplied, build};
use uspan_lab::{Depth, Event, Job, cast};

use crate::common::{AUTHORITY, SECRET, uspan, write};
use crate::fidelity::Rng;
use crate::suite::{OI, ordered_pairs, secret_read, seed_of};
use crate::{OTHER, failed_ends, known, perform, say};
pub use cover::Cover;
use draft::{Choice, Written, written};
use factors::{DERIVED, Factor, factors};
pub use shrink::smaller;

/// What can be said, and what is needed beside it.
pub struct Workshop {
    factors: Vec<Factor>,
    /// The gateways' keys.
    keys: [rcgen::KeyPair; 2],
}

/// A description to be proven.
pub struct Trial {
    pub name: String,
    pub choice: Choice,
    written: Written,
    /// Whether only what algorithms decide is tried.
    keys_alone: bool,
}

/// What came of one.
pub struct Outcome {
    /// The checks that failed, with the places, the reasons and the daemons' words; nothing where it is whole.
    pub failed: Vec<String>,
    /// The first of them alone, for the eye and to know a failure again.
    pub first: String,
}

/// Why a choice is not to be tried.
pub enum Unfit {
    /// The code of the first finding that stops it.
    Refused(&'static str),
    /// A value has no place beside the others.
    NoPlace,
}

impl Workshop {
    pub fn new() -> Workshop {
        let key = || rcgen::KeyPair::generate().expect("a key");
        Workshop { factors: factors(known::context()), keys: [key(), key()] }
    }

    /// The description of a choice, if the program takes it.
    fn taken(&self, choice: &Choice) -> Result<Written, Unfit> {
        let written = written(&self.factors, choice).ok_or(Unfit::NoPlace)?;
        let (description, mut findings) = Description::parse(&Source::new("combined.span.toml", written.text.as_str()), known::context());
        let stops = |findings: &[Finding]| findings.iter().find(|finding| finding.stops()).map(|finding| finding.rule.code);
        if let Some(code) = stops(&findings) {
            return Err(Unfit::Refused(code));
        }
        findings.extend(build(&description, &self.supplied(&written)).findings);
        stops(&findings).map_or(Ok(written), |code| Err(Unfit::Refused(code)))
    }

    fn supplied(&self, written: &Written) -> Supplied {
        let mut keys = BTreeMap::new();
        for (file, text) in self.key_files(written) {
            let held = if file.ends_with(".key") {
                let public = PublicKey::from_pem(&self.keys[usize::from(file.contains("second"))].public_key_pem()).expect("a key");
                KeyFile::Private { pem: Secret::new(text.into_bytes()), public, exposed: false }
            } else if file.ends_with(".pub") {
                KeyFile::Public(PublicKey::from_pem(&text).expect("a key"))
            } else {
                KeyFile::Certificate(Certificate::from_pem(&text).expect("a certificate"))
            };
            keys.insert(file, held);
        }
        let secrets = [("k", SECRET), ("k2", OTHER)].map(|(file, secret)| (file.to_owned(), secret_read(secret)));
        Supplied { secrets: secrets.into(), keys, ..Supplied::default() }
    }

    /// Keys and certificates, by file.
    fn key_files(&self, written: &Written) -> Vec<(String, String)> {
        let mut files = Vec::new();
        for (end, site) in ["first", "second"].into_iter().enumerate() {
            files.push((format!("keys/{site}.pub"), self.keys[end].public_key_pem()));
            files.push((format!("keys/{site}.key"), self.keys[end].serialize_pem()));
            if written.by_certificates {
                let names: Vec<&str> = written.certified[end].iter().map(|name| name.rsplit("CN=").next().unwrap_or(name)).collect();
                files.push((format!("keys/{site}.crt"), AUTHORITY.certify(&names, &self.keys[end].serialize_pem(), [2020, 2120])));
            }
        }
        if written.by_certificates {
            files.push(("keys/ca.crt".to_owned(), AUTHORITY.pem.clone()));
        }
        files
    }

    /// A choice at random that the program takes: values are added one after the other, and those that it refuses left out.
    pub fn random(&self, seed: u64, number: usize) -> Trial {
        let mut rng = Rng::from(seed_of((seed, number)));
        let pairs = ordered_pairs();
        let mut choice =
            Choice { platforms: pairs[number % pairs.len()], seed: seed_of((seed, number, "values")), values: BTreeMap::new() };
        let share = *rng.of(&[10, 20, 35, 50]);
        for factor in self.shuffled(&mut rng) {
            if rng.below(100) < share {
                let value = rng.below(self.factors[factor].values.len());
                // Long lives are waited for where only timers rekey: minutes of the machine's time each, so not in every second description.
                let life = self.factors[factor].key.ends_with("-lifetime");
                if life && choice.platforms.contains(&OI) && self.factors[factor].values[value].word != "minutes" && rng.below(4) > 0 {
                    continue;
                }
                self.add(&mut choice, factor, value);
            }
        }
        self.trial(format!("{seed}/{number}"), choice)
    }

    fn trial(&self, name: String, choice: Choice) -> Trial {
        let Some(written) = written(&self.factors, &choice) else { unreachable!("a choice is tried before it becomes a trial") };
        Trial { name, choice, written, keys_alone: false }
    }

    /// Adds a value, if the program takes what comes of it.
    fn add(&self, choice: &mut Choice, factor: usize, value: usize) -> bool {
        let before = choice.values.insert(factor, value);
        let fits = self.taken(choice).is_ok();
        if !fits {
            match before {
                Some(before) => choice.values.insert(factor, before),
                None => choice.values.remove(&factor),
            };
        }
        fits
    }

    fn shuffled(&self, rng: &mut Rng) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.factors.len()).collect();
        rng.shuffle(&mut order);
        order
    }

    /// The values of a choice in words.
    pub fn words(&self, choice: &Choice) -> Vec<String> {
        choice.values.iter().map(|(factor, value)| self.value_words(*factor, *value)).collect()
    }

    fn value_words(&self, factor: usize, value: usize) -> String {
        let factor = &self.factors[factor];
        format!("{}={}", factor.name(), factor.values[value].word)
    }

    /// All values of all keys.
    fn values(&self) -> impl Iterator<Item = (usize, usize)> {
        self.factors.iter().enumerate().flat_map(|(factor, of)| (0..of.values.len()).map(move |value| (factor, value)))
    }

    /// The value that is called so.
    fn said(&self, words: &str) -> Option<(usize, usize)> {
        let (name, word) = words.split_once('=')?;
        let factor = self.factors.iter().position(|factor| factor.name() == name)?;
        Some((factor, self.factors[factor].values.iter().position(|value| value.word == word)?))
    }

    /// Lets the lab prove them, a few at once.
    fn prove(&self, trials: &[&Trial]) -> Vec<Outcome> {
        let (keys, whole): (Vec<_>, Vec<_>) = trials.iter().partition(|trial| trial.keys_alone);
        let mut keys = in_the_lab(keys.into_iter().map(|trial| self.job(trial)).collect()).into_iter();
        let mut whole = self.proven(&whole).into_iter();
        trials.iter().filter_map(|trial| if trial.keys_alone { keys.next() } else { whole.next() }).collect()
    }

    /// What the lab is to try of a trial of algorithms.
    fn job(&self, trial: &Trial) -> Job {
        let (description, _) = Description::parse(&Source::new("combined.span.toml", trial.written.text.as_str()), known::context());
        let built = build(&description, &self.supplied(&trial.written));
        Job { depth: Depth::Keys, ..cast(&description, &built, &built.trees, &BTreeMap::new(), &[], |_| true) }
    }

    /// What the program itself makes of them.
    fn proven(&self, trials: &[&Trial]) -> Vec<Outcome> {
        if trials.is_empty() {
            return Vec::new();
        }
        let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
        let mut files = Vec::new();
        for (number, trial) in trials.iter().enumerate() {
            let below = folder.path().join(number.to_string());
            write(&below.join("case.span.toml"), &trial.written.text, 0o644);
            write(&below.join("k"), format!("{SECRET}\n"), 0o600);
            write(&below.join("k2"), format!("{OTHER}\n"), 0o600);
            for (file, text) in self.key_files(&trial.written) {
                write(&below.join(&file), text, if file.ends_with(".key") { 0o600 } else { 0o644 });
            }
            files.push(format!("{number}/case.span.toml"));
        }
        proven(folder.path(), &files)
    }
}

/// What `uspan prove` makes of files; where it makes nothing of several, of each.
fn proven(folder: &Path, files: &[String]) -> Vec<Outcome> {
    let mut args = vec!["prove", "--format", "json"];
    args.extend(files.iter().map(String::as_str));
    let run = uspan(folder, &args);
    let json: Json = serde_json::from_str(&run.stdout).unwrap_or_default();
    let proofs = json["proofs"].as_array().filter(|proofs| proofs.len() == files.len());
    match (proofs, files) {
        (Some(proofs), _) => proofs.iter().map(outcome).collect(),
        (None, [_]) => vec![Outcome { first: "not run".to_owned(), failed: vec![format!("exit {}: {}", run.code, run.all())] }],
        (None, several) => several.iter().flat_map(|file| proven(folder, std::slice::from_ref(file))).collect(),
    }
}

fn outcome(proof: &Json) -> Outcome {
    let mut failed = Vec::new();
    let mut first = String::new();
    for tunnel in proof["tunnels"].as_array().into_iter().flatten() {
        let rows = tunnel["checks"].as_array().map(Vec::as_slice).unwrap_or_default();
        // Through a hub without networks of its own nobody reaches a host.
        let least = if rows.iter().any(|row| row["check"] == "ping") { 14 } else { 10 };
        if rows.len() < least {
            failed.push(format!("{}: {} checks alone", tunnel["tunnel"], rows.len()));
        }
        for row in rows {
            let ends = failed_ends(row);
            if ends.is_empty() {
                continue;
            }
            if first.is_empty() {
                first = row["check"].as_str().unwrap_or_default().to_owned();
            }
            let told: Vec<_> = ends.iter().map(|end| format!("{}: {}", end["site"], end["detail"])).collect();
            failed.push(format!("{} {} {} {}", row["check"], row["about"], told.join("; "), row["words"]));
        }
    }
    if proof["lab_failures"] != json!([]) {
        failed.push(format!("the lab itself: {}", proof["lab_failures"]));
    }
    if first.is_empty() && !failed.is_empty() {
        first = "the lab".to_owned();
    }
    Outcome { failed, first }
}

/// What came of jobs, in their order.
fn in_the_lab(mut jobs: Vec<Job>) -> Vec<Outcome> {
    let mut outcomes: Vec<Outcome> = jobs.iter().map(|_| Outcome { failed: Vec::new(), first: String::new() }).collect();
    if jobs.is_empty() {
        return outcomes;
    }
    let mut rows = vec![0; jobs.len()];
    for (number, job) in jobs.iter_mut().enumerate() {
        job.number = number;
    }
    let mut fail = |job: usize, check: String, told: String| {
        let outcome: &mut Outcome = &mut outcomes[job];
        if outcome.first.is_empty() {
            outcome.first = check;
        }
        outcome.failed.push(told);
    };
    perform(jobs, None, &mut |event| match event {
        Event::Row(row) => {
            rows[row.job] += 1;
            for end in row.ends.iter().filter(|end| end.failed()) {
                fail(row.job, format!("{:?}", row.check), format!("{:?} {}: {end:?} {:?}", row.check, row.about, row.words));
            }
        }
        Event::Broken { job, how } => fail(job, "the lab".to_owned(), format!("the lab itself: {how}")),
        _ => {}
    });
    // A job of which nothing is told came to nothing.
    for (outcome, _) in outcomes.iter_mut().zip(rows).filter(|(_, rows)| *rows < 8) {
        outcome.failed.push("less was tried than there is".to_owned());
    }
    outcomes
}

/// What is known from runs before, in a file with a line for each trial.
pub struct Seen {
    path: Option<PathBuf>,
    pub lines: Vec<Json>,
}

impl Seen {
    pub fn open(path: Option<PathBuf>) -> Seen {
        let text = path.as_ref().and_then(|path| fs::read_to_string(path).ok()).unwrap_or_default();
        // A line that was cut off when a run was stopped is no trial.
        Seen { path, lines: text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect() }
    }

    pub fn has(&self, name: &str) -> bool {
        self.lines.iter().any(|line| line["name"] == name)
    }

    pub fn add(&mut self, workshop: &Workshop, trial: &Trial, outcome: &Outcome) {
        let line = json!({
            "name": trial.name,
            "platforms": trial.choice.platforms,
            "seed": trial.choice.seed.to_string(),
            "values": workshop.words(&trial.choice),
            "keys_alone": trial.keys_alone,
            "failed": outcome.failed,
            "text": trial.written.text,
        });
        self.write(line);
    }

    fn write(&mut self, line: Json) {
        if let Some(path) = &self.path {
            let mut file = fs::OpenOptions::new().create(true).append(true).open(path).expect("it opens");
            writeln!(file, "{line}").expect("written");
        }
        self.lines.push(line);
    }
}

/// Tells of a failure: what was tried, what is left of it, and what the daemons say.
pub fn tell(workshop: &Workshop, trial: &Trial, outcome: &Outcome) -> String {
    let said = format!(
        "{} {:?} {:?}\n{}\n{}",
        trial.name,
        trial.choice.platforms,
        workshop.words(&trial.choice),
        trial.written.text,
        outcome.failed.join("\n")
    );
    say(&said);
    said
}

/// How many are proven at once: one guest for several, and not so many that a run that is stopped loses much.
const AT_ONCE: usize = 12;

/// What came of descriptions.
#[derive(Default)]
pub struct Tally {
    pub tried: usize,
    /// What failed twice: as it was told when nothing more could be taken away.
    pub wrong: Vec<String>,
    /// What failed once, and came up whole with fresh daemons: an accident of the lab, or something rare.
    pub once: Vec<String>,
}

/// As many descriptions at random.
pub fn drawn(workshop: &Workshop, seen: &mut Seen, seed: u64, count: u64) -> Tally {
    let numbers = 0..usize::try_from(count).expect("a number");
    let only = std::env::var("USPAN_ONLY").ok();
    let wanted = |number: &usize| match &only {
        Some(some) => some.split(',').any(|one| one == number.to_string()),
        None => !seen.has(&format!("{seed}/{number}")),
    };
    let open: Vec<usize> = numbers.filter(wanted).collect();
    say(&format!("seed {seed}: {} descriptions at random", open.len()));
    let mut tally = Tally::default();
    for some in open.chunks(AT_ONCE) {
        tried(workshop, seen, some.iter().map(|number| workshop.random(seed, *number)).collect(), &mut tally);
        let (first, last) = (some[0], some[some.len() - 1]);
        say(&format!("seed {seed}: {first} to {last} of {count} tried, {} failed, {} once", tally.wrong.len(), tally.once.len()));
    }
    tally
}

/// Pairs of values that nobody tried yet, as many descriptions with as many of them as they take.
pub fn covered(workshop: &Workshop, seen: &mut Seen, most: u64) -> Tally {
    let mut tally = Tally::default();
    let mut covers: Vec<Cover> = ordered_pairs().into_iter().map(|platforms| Cover::new(workshop, platforms)).collect();
    while tally.tried < usize::try_from(most).expect("a number") {
        let some: Vec<Trial> = covers.iter_mut().filter_map(|cover| cover.next(workshop)).collect();
        if some.is_empty() {
            break;
        }
        let came = tried(workshop, seen, some, &mut tally);
        for cover in &mut covers {
            let platforms = cover.platforms;
            for trial in came.iter().filter(|trial| trial.choice.platforms == platforms) {
                cover.note(workshop, trial);
            }
            cover.keep(workshop);
        }
        let told: Vec<_> = covers.iter().map(|cover| format!("{}: {}", cover.platforms.join("-"), cover.left())).collect();
        say(&format!("{} tried, {} failed, {} once; open {}", tally.tried, tally.wrong.len(), tally.once.len(), told.join(", ")));
    }
    tally
}

/// Proves them. What fails is tried once more with fresh daemons, and said either way; then it is made smaller, unless
/// `USPAN_NOT_SMALLER` is set. Those that came up whole are returned.
fn tried(workshop: &Workshop, seen: &mut Seen, trials: Vec<Trial>, tally: &mut Tally) -> Vec<Trial> {
    let outcomes = workshop.prove(&trials.iter().collect::<Vec<_>>());
    tally.tried += trials.len();
    let mut came = Vec::new();
    for (trial, outcome) in trials.into_iter().zip(outcomes) {
        seen.add(workshop, &trial, &outcome);
        if outcome.failed.is_empty() {
            came.push(trial);
            continue;
        }
        let first = tell(workshop, &trial, &outcome);
        let Some(again) = workshop.prove(&[&trial]).pop().filter(|again| !again.failed.is_empty()) else {
            say(&format!("{} came up whole at the second try", trial.name));
            tally.once.push(first);
            continue;
        };
        if std::env::var_os("USPAN_NOT_SMALLER").is_some() {
            tally.wrong.push(first);
            continue;
        }
        let (least, outcome) = smaller(workshop, trial, again);
        tally.wrong.push(tell(workshop, &least, &outcome));
    }
    came
}

/// Keys that follow from others are keys of the language.
pub fn stale_keys() -> Vec<&'static str> {
    use uspan_core::language::{SITE, TUNNEL};
    let known = |name: &str| SITE.iter().chain(TUNNEL).any(|key| key.name == name);
    DERIVED.iter().map(|(name, _)| *name).filter(|name| !known(name)).collect()
}
