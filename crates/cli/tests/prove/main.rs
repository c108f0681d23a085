//! `uspan prove`: varied descriptions come up at the first try, sabotaged pairs fail at the right check, and nothing
//! is left behind.
//!
//! Needs root and Debian 12; `prove --prepare` installs what it needs. `cargo test` passes over them and says so; `./test` turns them
//! on where somebody is root.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod combined;
#[path = "../common/mod.rs"]
mod common;
mod fidelity;
mod hand;
#[path = "../../../core/tests/common/known.rs"]
mod known;
mod sabotage;
mod sandbox;
mod stars;
mod suite;
mod takeover;
mod updates;
mod walks;
mod weights;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::AtomicBool;
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use common::{SECRET, uspan, write, write_keys};
use rustix::process::{Pid, Signal, kill_process};
use sabotage::{Sabotage, sabotages};
use serde_json::Value;
use suite::orchard;
use uspan_lab::{Event, Ground, Job, Negotiation, Options, default_cache, ground, run};

static READY: LazyLock<()> = LazyLock::new(|| {
    let run = uspan(Path::new("/"), &["prove", "--prepare"]);
    assert_eq!(run.code, 0, "the lab runs here: {}", run.all());
});

/// The tests take turns: each wants the whole machine.
static TURN: Mutex<()> = Mutex::new(());

/// The turn of a test, where the lab runs.
fn turn() -> MutexGuard<'static, ()> {
    *READY;
    TURN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The guest kernel and a folder for a machine of its own. None where the machine's own kernel has ESP: there the other
/// tests run on just such a kernel.
fn machine_in_the_machine() -> Option<(PathBuf, tempfile::TempDir)> {
    let Ok(Ground::Guest(kernel)) = uspan_lab::ground(&uspan_lab::default_cache()) else { return None };
    // Not below /var/tmp, which the machine in the machine covers.
    Some((kernel, tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder")))
}

/// A secret for a second tunnel.
const OTHER: &str = "Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB";

/// A folder below /var/tmp with secrets in it.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
    write(&folder.path().join("k"), format!("{SECRET}\n"), 0o600);
    write_keys(folder.path());
    write(&folder.path().join("k2"), format!("{OTHER}\n"), 0o600);
    folder
}

/// The ends at which a check failed.
fn failed_ends(row: &Value) -> Vec<&Value> {
    row["ends"].as_array().expect("ends").iter().filter(|end| end["result"] == "fail").collect()
}

/// The failed rows of a proof, each with the check, the sites at which it failed, and why.
fn failures(proof: &Value) -> Vec<(String, Vec<(String, String)>)> {
    let mut found = Vec::new();
    for tunnel in proof["tunnels"].as_array().expect("tunnels") {
        for row in tunnel["checks"].as_array().expect("checks") {
            let ends: Vec<_> = failed_ends(row)
                .into_iter()
                .map(|end| (end["site"].as_str().unwrap_or("").to_owned(), end["detail"].as_str().unwrap_or("").to_owned()))
                .collect();
            if !ends.is_empty() {
                found.push((row["check"].as_str().expect("a word").to_owned(), ends));
            }
        }
    }
    found
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn varied_descriptions_come_up_at_the_first_try_with_every_check_green() {
    let _turn = turn();
    let folder = folder();
    let cases = suite::part();
    assert!(cases.len() >= 16 || std::env::var_os("USPAN_SHOWS").is_some());
    let names: Vec<String> = (0..cases.len()).map(|i| format!("{i:03}.span.toml")).collect();
    for (name, case) in names.iter().zip(&cases) {
        write(&folder.path().join(name), &case.text, 0o644);
    }
    write(&folder.path().join("orchards.csv"), stars::ORCHARDS, 0o644);
    write(&folder.path().join("members.csv"), stars::MEMBERS, 0o644);
    let shows: BTreeMap<&str, &str> = names.iter().zip(&cases).map(|(name, case)| (name.as_str(), case.shows)).collect();
    let mut wrong = Vec::new();
    for some in names.chunks(8) {
        say(&format!("proving {} to {} of {}", some[0], some[some.len() - 1], names.len()));
        wrong.extend(prove_all(folder.path(), some));
    }
    // A failure is repeated with fresh daemons before it counts, and said either way.
    let again: Vec<String> = wrong.iter().map(|(name, _)| name.clone()).collect();
    for (name, why) in &wrong {
        say(&format!("FAILED AT FIRST, repeated: {}\n{why}", shows[name.as_str()]));
    }
    let still = if again.is_empty() { Vec::new() } else { prove_all(folder.path(), &again) };
    let words: Vec<_> = still.iter().map(|(name, why)| format!("{}\n{why}", shows[name.as_str()])).collect();
    assert!(still.is_empty(), "{} of {} failed twice:\n{}", still.len(), cases.len(), words.join("\n"));
    // More than one in forty that needs a second try is no accident.
    assert!(wrong.len() <= cases.len().div_ceil(40), "{} of {} needed a second try: {again:?}", wrong.len(), cases.len());
    no_secret_in(&folder.path().join("logs"));
}

/// Whatever is combined comes up at the first try, or is refused. `USPAN_SEED` draws other descriptions, `USPAN_PAIRS` says how many;
/// without it a run of the whole lab takes 100, and any other one 20, by the commit. `USPAN_SEEN` names a file in which what came of
/// each is kept, so that a run that was stopped goes on; `USPAN_ONLY=17,105` takes some. With `USPAN_COVER` every pair of values is tried
/// instead, in as many descriptions as it says.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn whatever_is_combined_comes_up_at_the_first_try() {
    let _turn = turn();
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let whole = std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all");
    let workshop = combined::Workshop::new();
    let mut seen = combined::Seen::open(std::env::var_os("USPAN_SEEN").map(PathBuf::from));
    let tally = match number("USPAN_COVER") {
        Some(most) => combined::covered(&workshop, &mut seen, most),
        None => {
            let seed = number("USPAN_SEED").unwrap_or_else(suite::seed_of_commit);
            let count = number("USPAN_PAIRS").unwrap_or(if whole { 100 } else { 20 });
            combined::drawn(&workshop, &mut seen, seed, count)
        }
    };
    assert!(tally.tried > 0 || !seen.lines.is_empty());
    let wrong = &tally.wrong;
    assert!(wrong.is_empty(), "{} of {} failed twice:\n{}", wrong.len(), tally.tried, wrong.join("\n\n"));
    // More than one in forty that needs a second try is no accident.
    assert!(tally.once.len() <= tally.tried.div_ceil(40), "{} of {} needed a second try", tally.once.len(), tally.tried);
}

/// What the check refuses does not come up, let through: with the whole lab ten of each code, or of those that `USPAN_CODE` names; in any
/// other run three by the commit, of those that were seen to fail each time.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn what_is_refused_does_not_come_up() {
    let _turn = turn();
    let only = std::env::var("USPAN_CODE").ok();
    let whole = only.is_some() || std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all");
    let amount = match whole {
        true => combined::refused::Amount { of_each: 10, most: usize::MAX, in_vain: 300 },
        false => combined::refused::Amount { of_each: 1, most: 3, in_vain: 100 },
    };
    let seed = std::env::var("USPAN_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or_else(suite::seed_of_commit);
    let codes = match (&only, whole) {
        (Some(codes), _) => Some(codes.split(',').collect()),
        (None, true) => None,
        (None, false) => Some(combined::refused::CANNOT.to_vec()),
    };
    let told = combined::refused::tried(&combined::Workshop::new(), seed, codes.as_deref(), amount);
    for (code, (count, whole)) in &told {
        say(&format!("{code}: {count} tried, {} would have come up", whole.len()));
    }
    assert!(!told.is_empty());
    let whole: Vec<&String> = told.values().flat_map(|(_, whole)| whole).collect();
    assert!(whole.is_empty(), "{} refusals would have come up", whole.len());
}

/// Gateways take up changed files while packets cross: what was promised is what was interrupted. `USPAN_ONLY` names changes, between
/// semicolons, and `USPAN_PLATFORMS` pairs of platforms; the whole takes hours, so that any other run takes a small part.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn what_a_change_interrupts_was_promised() {
    let _turn = turn();
    let only = std::env::var("USPAN_ONLY").unwrap_or_else(|_| "services".to_owned());
    let platforms = std::env::var("USPAN_PLATFORMS").unwrap_or_else(|_| "strongswan-libreswan,openiked-strongswan".to_owned());
    let is_wanted = |one: &&updates::Alteration| only == "all" || only.split(';').any(|name| name == one.what);
    let wanted: Vec<_> = updates::ALTERATIONS.iter().filter(is_wanted).collect();
    let is_named = |pair: &[&str; 2]| platforms == "all" || platforms.split(',').any(|one| one == pair.join("-"));
    let pairs: Vec<_> = suite::ordered_pairs().into_iter().filter(is_named).collect();
    let kills = std::env::var("USPAN_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    let all = updates::tried(&pairs, &wanted, kills);
    for one in &all {
        let promised = one.promised.map(|promise| promise.map_or("not concerned", updates::Promise::words));
        say(&format!("{:?} {}: {promised:?}", one.platforms, one.what));
        one.seen.iter().for_each(|seen| say(&format!("      {seen:?}")));
    }
    assert!(!all.is_empty() && all.iter().all(|one| !one.seen.is_empty()), "each was done");
    let wrong: Vec<String> = all.iter().flat_map(updates::Tried::wrong).collect();
    assert!(wrong.is_empty(), "{} are not as promised:\n{}", wrong.len(), wrong.join("\n"));
}

/// What the combinations leave out because it follows from something else are keys that there are.
#[test]
fn keys_that_follow_from_others_are_keys_of_the_language() {
    assert_eq!(combined::stale_keys(), Vec::<&str>::new());
}

/// What combinations found has a case of its own each.
#[test]
fn the_page_of_what_combinations_found_is_current() {
    assert_eq!(combined::found::missing(), Vec::<String>::new());
    current("combined.md", &combined::found::page());
}

/// How much of it was tried is counted.
#[test]
fn the_page_of_what_is_covered_is_current() {
    current("covered.md", &combined::ledger::page(&combined::Workshop::new()));
}

/// A page of the reference is as it would be written now.
fn current(name: &str, page: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference").join(name);
    if std::env::var_os("USPAN_WRITE_PAGES").is_some() {
        fs::write(&file, page).expect("written");
    }
    let current = fs::read_to_string(&file).unwrap_or_default();
    assert!(current == page, "write it anew: USPAN_WRITE_PAGES=1 cargo test -p uspan --test prove the_page");
}

/// The page follows from the suite: a capability that is neither proven nor refused cannot be on it.
#[test]
fn the_page_of_what_is_proven_is_current() {
    current("proven.md", &suite::page());
    assert!(suite::all().len() >= 150);
    // What is refused is refused for what a platform cannot do, and for nothing else.
    for cell in suite::survey() {
        let expected =
            cell.refused.is_none_or(|code| ["US226", "US326", "US410", "US417", "US421", "US530", "US536", "US603"].contains(&code));
        assert!(expected, "{} on {:?}: {:?}", cell.shows, cell.platforms, cell.refused);
    }
}

/// Lets the lab work on jobs, and hears what it tells; with logs below the folder that `USPAN_KEEP` names, if any.
fn perform(jobs: Vec<Job>, keep: Option<PathBuf>, hear: &mut dyn FnMut(Event)) {
    let cache = default_cache();
    let ground = ground(&cache).expect("a ground");
    let options = Options { program: env!("CARGO_BIN_EXE_uspan").into(), ground, cache, workers: 2, keep };
    run(jobs, &options, &AtomicBool::new(false), hear).expect("it runs");
}

/// Tells how far it is, past the harness that keeps what a test prints.
fn say(what: &str) {
    let _ = writeln!(std::io::stderr(), "{what}");
}

/// Proves descriptions; returns those that failed, with everything that was found.
fn prove_all(folder: &Path, names: &[String]) -> Vec<(String, String)> {
    let mut args = vec!["prove", "--format", "json", "--keep", "logs"];
    args.extend(names.iter().map(String::as_str));
    let run = uspan(folder, &args);
    let json = run.json();
    let schema = jsonschema::validator_for(&uspan(folder, &["schema", "--of", "prove"]).json()).expect("a schema");
    let errors: Vec<_> = schema.iter_errors(&json).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(errors.is_empty(), "{errors:#?}");
    let mut wrong = Vec::new();
    for (proof, name) in json["proofs"].as_array().expect("proofs").iter().zip(names) {
        let tunnels = proof["tunnels"].as_array().expect("tunnels");
        let whole = tunnels.iter().all(|tunnel| tunnel["checks"].as_array().is_some_and(|checks| checks.len() >= 14));
        let failed = failures(proof);
        if !failed.is_empty() || proof["lab_failures"] != serde_json::json!([]) || !whole {
            let text = fs::read_to_string(folder.join(name)).unwrap_or_default();
            wrong.push((name.clone(), format!("{text}\n{failed:#?}\n{}\n{tunnels:#?}", proof["lab_failures"])));
        }
    }
    let told = (run.code == 0, &json["fine"]);
    assert_eq!(told, (wrong.is_empty(), &Value::Bool(wrong.is_empty())), "{}\n{}", run.stderr, json["findings"]);
    wrong
}

/// Logs and captures hold no secret, neither as text nor in hexadecimal.
fn no_secret_in(folder: &Path) {
    let hex: String = SECRET.bytes().map(|byte| format!("{byte:02x}")).collect();
    let files = common::files(folder);
    assert!(files.len() >= 3, "{files:?}");
    for file in files {
        let text = String::from_utf8_lossy(&fs::read(&file).expect("read")).to_lowercase();
        assert!(!text.contains(&SECRET.to_lowercase()) && !text.contains(&hex), "{}", file.display());
    }
}

/// Builds a pair and edits its files.
fn build_and_edit(folder: &Path, name: &str, text: String, edits: &[(&str, &str, &str)]) {
    write(&folder.join("x.span.toml"), text, 0o644);
    let built = uspan(folder, &["build", "x.span.toml", "-o", "out"]);
    assert_eq!(built.code, 0, "{name}: {}", built.all());
    for (file, old, new) in edits {
        let path: PathBuf = folder.join("out").join(file);
        let text = fs::read_to_string(&path).expect("read");
        assert!(text.contains(old), "{name}: {file} has no `{old}`:\n{text}");
        fs::write(&path, text.replace(old, new)).expect("written");
    }
}

/// Lays out a sabotaged pair; returns the arguments that prove it.
fn spoil(folder: &Path, sabotage: &Sabotage) -> Vec<String> {
    build_and_edit(folder, sabotage.name, sabotage.pair.text(), sabotage.edits);
    let mut args: Vec<String> =
        ["prove", "x.span.toml", "--built", "out", "--with-changes", "--format", "json"].map(str::to_owned).to_vec();
    if let Some((site, script)) = sabotage.script {
        write(&folder.join("script.sh"), script, 0o644);
        args.extend(["--gateway-script".to_owned(), format!("{site}=script.sh")]);
    }
    args
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_sabotaged_pair_fails_at_the_right_check() {
    let _turn = turn();
    let mut wrong = Vec::new();
    for sabotage in suite::draw(sabotages(), 10, |sabotage| sabotage.name.to_owned()) {
        say(&format!("proving that it fails: {}", sabotage.name));
        let folder = folder();
        let args = spoil(folder.path(), &sabotage);
        let run = uspan(folder.path(), &args.iter().map(String::as_str).collect::<Vec<_>>());
        let json = run.json();
        let failed = failures(&json["proofs"][0]);
        let fits = failed.first().is_some_and(|(check, ends)| {
            *check == sabotage.check
                && ends.iter().map(|(site, _)| site.as_str()).collect::<Vec<_>>() == sabotage.sites
                && ends.iter().all(|(_, why)| why.contains(sabotage.says))
        });
        let clear = failed
            .iter()
            .all(|(check, _)| check == sabotage.check || ["tcp", "full-size", "counters", "encrypted"].contains(&check.as_str()));
        if run.code != 1 || !fits || !clear {
            wrong.push(format!("{}: exit {}, {failed:#?}\n{:#}", sabotage.name, run.code, json["proofs"][0]["lab_failures"]));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// What `compare` calls fatal does not work between real daemons, and what it calls compatible does.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn compare_and_the_daemons_agree_on_what_is_fatal() {
    let _turn = turn();
    let mut wrong = Vec::new();
    for change in suite::draw(weights::changes(), 4, |change| change.name.to_owned()) {
        let folder = folder();
        build_and_edit(folder.path(), change.name, change.pair.text(), change.edits);
        let compared = uspan(folder.path(), &["compare", "out/packhouse", "out/coldstore", "--format", "json"]);
        let proven = uspan(folder.path(), &["prove", "x.span.toml", "--built", "out", "--with-changes", "--format", "json"]);
        let failed = failures(&proven.json()["proofs"][0]);
        say(&format!("compared: {}, exit {}; proven: exit {}", change.name, compared.code, proven.code));
        if compared.code != proven.code || proven.code > 1 {
            let rows = compared.json()["pairs"][0]["parameters"].clone();
            let fatal: Vec<_> = rows.as_array().into_iter().flatten().filter(|row| row["gravity"] == "fatal").cloned().collect();
            wrong.push(format!("{}: compare {}, the daemons {}\n{fatal:#?}\n{failed:#?}", change.name, compared.code, proven.code));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Everything that a run could leave: namespaces, processes, mounts, files.
fn traces() -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let read = |path: &str| fs::read_to_string(path).unwrap_or_default();
    found.extend(read("/proc/self/mounts").lines().map(|line| format!("mount {line}")));
    for entry in fs::read_dir("/proc").expect("processes").flatten() {
        let pid = entry.file_name().to_string_lossy().into_owned();
        let words = read(&format!("/proc/{pid}/cmdline")).replace('\0', " ");
        if ["charon", "pluto", "prove-inside", "uspan-lab"].iter().any(|word| words.contains(word)) {
            found.insert(format!("process {words}"));
        }
        if let Ok(namespace) = fs::read_link(format!("/proc/{pid}/ns/net")) {
            found.insert(format!("namespace {}", namespace.display()));
        }
    }
    for folder in ["/var/tmp", "/tmp", "/run", "/run/netns", "/root/.uml", "/dev/shm"] {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        found.extend(entries.filter(|path| !path.to_string_lossy().contains("uspan-test-")).map(|path| format!("file {}", path.display())));
    }
    let interfaces = Command::new("ip").args(["-o", "link"]).output().expect("ip runs").stdout;
    found.insert(format!("interfaces {}", String::from_utf8_lossy(&interfaces).lines().count()));
    found
}

/// The test runs itself once more, in namespaces where there is nothing but what it makes itself.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn nothing_is_left_after_twenty_runs_five_of_them_interrupted() {
    if std::env::var_os("USPAN_ALONE").is_none() {
        let _turn = turn();
        // The workspace may itself stand below one of them.
        let alone = "mount --bind \"$2\" /mnt; for folder in /tmp /var/tmp /run /dev/shm; do mount -t tmpfs tmpfs $folder; done; \
            mkdir -p \"$2\"; mount --bind /mnt \"$2\"; umount /mnt; exec \"$0\" --include-ignored --exact \"$1\"";
        let workspace = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the workspace");
        let mut command = Command::new("unshare");
        command.args(["--mount", "--net", "--ipc", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-ec", alone]);
        command.arg(std::env::current_exe().expect("this program"));
        let name = "nothing_is_left_after_twenty_runs_five_of_them_interrupted";
        let run = command.arg(name).arg(workspace).env("USPAN_ALONE", "1").output().expect("it runs");
        let said = String::from_utf8_lossy(&[run.stdout, run.stderr].concat()).into_owned();
        assert!(run.status.success() && said.contains("1 passed"), "{said}");
        return;
    }
    let folder = folder();
    let args = spoil(folder.path(), &sabotages()[0]);
    let before = traces();
    for run in 0..20u64 {
        let mut command = Command::new(env!("CARGO_BIN_EXE_uspan"));
        let mut child =
            command.args(&args).current_dir(folder.path()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("it runs");
        // One in four is interrupted, at different moments; the last one without a chance to tidy up.
        if run % 4 == 3 {
            std::thread::sleep(Duration::from_millis(200 + 350 * (run / 4)));
            let signal = if run == 19 { Signal::KILL } else { Signal::INT };
            let pid = Pid::from_raw(i32::try_from(child.id()).expect("a process")).expect("a process");
            kill_process(pid, signal).expect("it still runs");
        }
        let code = child.wait().expect("it ends").code();
        let expected = match run {
            19 => None,
            run if run % 4 == 3 => Some(3),
            _ => Some(1),
        };
        assert_eq!(code, expected, "run {run}");
    }
    // After a kill the keeper finds out by itself, and takes a moment to tidy up.
    let left = |_: u32| {
        std::thread::sleep(Duration::from_millis(250));
        let left: Vec<_> = traces().difference(&before).cloned().collect();
        left
    };
    let last = (0..80).map(left).find(Vec::is_empty);
    assert!(last.is_some(), "{:#?}", left(0));
}

/// On a machine whose kernel has ESP the same happens on that kernel. Where this one has none, the guest kernel plays
/// such a machine.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_machine_with_esp_proves_on_its_own_kernel() {
    let _turn = turn();
    let Some((kernel, folder)) = machine_in_the_machine() else { return };
    write(&folder.path().join("k"), format!("{SECRET}\n"), 0o600);
    write(&folder.path().join("x.span.toml"), orchard().text(), 0o644);
    let script = format!(
        "#!/bin/sh\nmount -t proc proc /proc; mount -t sysfs sys /sys; mount -t tmpfs t /run\n\
         export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/run\nmkdir /run/x; cp {}/k {0}/x.span.toml {} /run/x; cd /run/x\n\
         mount -t tmpfs t /tmp; mount -t tmpfs t /var/tmp\n./uspan prove x.span.toml\necho \"exit $?\"\n\
         echo \"left: $(ls /var/tmp /tmp)\"\necho o > /proc/sysrq-trigger\nsleep 9\n",
        folder.path().display(),
        env!("CARGO_BIN_EXE_uspan"),
    );
    let init = folder.path().join("init");
    write(&init, script, 0o755);
    let said = boot(&kernel, folder.path(), &init);
    for expected in ["on this machine's own kernel", "Proven", "exit 0", "left: /tmp:"] {
        assert!(said.contains(expected), "`{expected}` is not in:\n{said}");
    }
    assert!(!said.contains("uspan-prove-"), "{said}");
}

/// Boots the guest kernel as a machine of its own, with this as its first process, and returns what its console said.
fn boot(kernel: &Path, folder: &Path, init: &Path) -> String {
    let machine = Command::new(kernel)
        .args(["mem=768M", "time-travel", "root=none", "rootfstype=hostfs", "rootflags=/", "ro", "quiet", "panic=-1"])
        .args(["con=null", "con0=null,fd:1", "con1=null", "ssl=null"])
        .arg(format!("uml_dir={}", folder.display()))
        .arg(format!("init={}", init.display()))
        .env("TMPDIR", folder)
        .stdin(Stdio::null())
        .output()
        .expect("it boots");
    String::from_utf8_lossy(&machine.stdout).into_owned()
}

/// What `rehearse` says of changed pairs is what the daemons make of them. `USPAN_SEED` draws other pairs, `USPAN_PAIRS`
/// says how many; without it a run of the whole lab takes 330, and any other one a few. `USPAN_ONLY=17,105` takes some of them.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn rehearsals_and_the_daemons_agree() {
    let _turn = turn();
    agree(fidelity::Spelling::Written, 330, 10);
}

/// The same of pairs as hands write them: other spellings, another order, statements beside that change nothing.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn rehearsals_of_hand_spelled_pairs_and_the_daemons_agree() {
    let _turn = turn();
    agree(fidelity::Spelling::ByHand, 300, 6);
}

/// Lets the daemons negotiate pairs, as many in a run of the whole lab and in any other, and holds them against what is rehearsed.
fn agree(spelling: fidelity::Spelling, in_whole: u64, in_part: u64) {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let whole = std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all");
    let seed = number("USPAN_SEED").unwrap_or(1);
    let count = number("USPAN_PAIRS").unwrap_or(if whole { in_whole } else { in_part });
    let mut cases = fidelity::cases(seed, usize::try_from(count).expect("a number"), spelling);
    let wanted = match std::env::var("USPAN_ONLY") {
        Ok(some) => {
            let wanted: BTreeSet<usize> = some.split(',').map(|text| text.parse().expect("a number")).collect();
            cases.retain(|case| wanted.contains(&case.job.number));
            wanted.len()
        }
        Err(_) => usize::try_from(count).expect("a number"),
    };
    assert_eq!(cases.len(), wanted, "as many pairs are tried as are asked for");
    // What the daemons did before, so that a rehearsal can be mended without them.
    let seen = std::env::var_os("USPAN_SEEN").map(PathBuf::from);
    let mut came: BTreeMap<usize, Negotiation> = seen
        .as_ref()
        .and_then(|path| fs::read_to_string(path).ok())
        .map_or_else(BTreeMap::new, |text| serde_json::from_str(&text).expect("negotiations"));
    fidelity::negotiate(&cases, &mut came, seen.as_deref());
    let told: Vec<_> = cases.iter().filter_map(|case| Some((case, came.get(&case.job.number)?))).collect();
    let wrong: Vec<_> = told.iter().filter_map(|(case, came)| fidelity::disagreement(case, came)).collect();
    for text in &wrong {
        say(text);
    }
    let (mut unsaid, mut lines) = (Vec::new(), 0);
    for (case, came) in &told {
        let (missing, wanted) = fidelity::unsaid(case, came);
        unsaid.extend(missing);
        lines += wanted;
    }
    if std::env::var_os("USPAN_WORDS").is_some() {
        unsaid.iter().for_each(|text| say(text));
    }
    let unknown: Vec<_> = told.iter().filter_map(|(case, _)| fidelity::unknown(case)).collect();
    unknown.iter().for_each(|text| say(text));
    let right = told.len() - wrong.len() - unknown.len();
    say(&format!(
        "{spelling:?}, seed {seed}: {right} of {} pairs as rehearsed, {} cannot be said, {} of {lines} log lines",
        told.len(),
        unknown.len(),
        lines - unsaid.len()
    ));
    // One in a hundred may be an accident of the lab; each is told.
    assert!(seen.is_some() || wrong.len() * 100 <= told.len(), "{}", wrong.join("\n"));
}

/// What `walk` says of a flow is what becomes of it: everybody to everybody, over pairs of which some are spoilt.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn walks_and_the_packets_agree() {
    let _turn = turn();
    let cases = suite::draw(walks::cases(), 3, |case| case.name.to_owned());
    let (all, wrong) = walks::tried(&cases);
    say(&format!("{} of {all} flows as walked", all - wrong.len()));
    assert!(all >= 20 * cases.len(), "{all}");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A pair that somebody wrote by hand, and that runs, is taken over as it is printed: one tunnel, nothing of the old one. All ordered pairs
/// of daemons with the whole lab, else three.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn what_runs_is_taken_over() {
    let _turn = turn();
    let whole = std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all");
    let (count, wrong) = takeover::tried(if whole { 9 } else { 3 });
    say(&format!("{} of {count} pairs taken over", count - wrong.len()));
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
