//! Many tunnels, as users build them; and what stands in the folder when a build does not get to its end.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

const PROGRAM: &str = env!("CARGO_BIN_EXE_uspan");

/// A list of pairs of sites, and an inventory and a master secret beside it.
fn fleet(folder: &Path, pairs: usize, generation: u32) {
    let description = format!(
        "unified-span = 1\n\n[inventory.orchards]\nfile = \"orchards.csv\"\n\
         all = {{ gateway = {{ outside = \"wan0\", inside = \"lan0\" }}, shares-internet = true }}\n\n\
         [group.harvest]\nshape = \"listed\"\nmembers = [\"orchards\"]\nmaster = \"master\"\ngeneration = {generation}\n"
    );
    let mut rows = String::from("name,platform,gateway.address,networks,peers\n");
    for number in 0..pairs {
        let (one, other) = (2 * number, 2 * number + 1);
        rows.push_str(&format!("packhouse-{number},strongswan,2001:db8::{one:x}:1,fd41:0:0:{one:x}::/64,coldstore-{number}\n"));
        rows.push_str(&format!("coldstore-{number},libreswan,2001:db8::{other:x}:1,fd41:0:0:{other:x}::/64,\n"));
    }
    fs::write(folder.join("orchards.span.toml"), description).expect("written");
    fs::write(folder.join("orchards.csv"), rows).expect("written");
    let master = folder.join("master");
    if !master.exists() {
        fs::write(&master, "8f3Kq2ZmW7vXc4RtY1nBh9PsD6fGj5Aqe0LuTi8oMb3\n").expect("written");
        fs::set_permissions(&master, fs::Permissions::from_mode(0o600)).expect("changed");
    }
}

fn uspan(folder: &Path, args: &[&str]) -> (Option<i32>, String, String) {
    let run = common::uspan(folder, args);
    (Some(run.code), run.stdout, run.stderr)
}

/// All files below a folder with their modes and contents.
fn standing(folder: &Path) -> BTreeMap<String, (u32, Vec<u8>)> {
    let (mut all, mut open) = (BTreeMap::new(), vec![folder.to_owned()]);
    while let Some(path) = open.pop() {
        for entry in fs::read_dir(&path).into_iter().flatten().flatten() {
            let meta = entry.metadata().expect("it is there");
            if meta.is_dir() {
                open.push(entry.path());
            } else {
                let name = entry.path().strip_prefix(folder).expect("below").display().to_string();
                all.insert(name, (meta.mode() & 0o777, fs::read(entry.path()).expect("read")));
            }
        }
    }
    all
}

#[test]
fn a_fleet_is_built_in_a_stream_and_told_in_sum() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fleet(folder, 130, 1);
    let (code, out, err) = uspan(folder, &["build", "orchards.span.toml", "-o", "out"]);
    assert_eq!((code, err.as_str()), (Some(0), ""), "{out}");
    assert!(out.starts_with("130 tunnels between 260 gateways, in out\n1040 files, "), "{out}");
    assert!(out.contains("run the take-up.sh in it as root"), "{out}");
    let built = standing(&folder.join("out"));
    assert_eq!(built.len(), 1041);
    let manifest: Value = serde_json::from_slice(&built["uspan-manifest.json"].1).expect("JSON");
    assert_eq!((built["uspan-manifest.json"].0, manifest["files"].as_object().expect("files").len()), (0o600, 1040));
    // Each is what it would be alone.
    let alone = tempfile::tempdir().expect("a folder");
    fleet(alone.path(), 3, 1);
    assert_eq!(uspan(alone.path(), &["build", "orchards.span.toml", "-o", "out"]).0, Some(0));
    for (path, file) in standing(&alone.path().join("out")) {
        assert!(path == "uspan-manifest.json" || built[&path] == file, "{path}");
    }
    // The same again is the same; another secret for one pair is two files.
    let (_, out, _) = uspan(folder, &["build", "orchards.span.toml", "-o", "out", "--format", "json"]);
    let told: Value = serde_json::from_str(&out).expect("JSON");
    assert!(told["files"].as_array().expect("files").iter().all(|file| file["change"] == "same"));
    assert_eq!(standing(&folder.join("out")), built);
    let path = folder.join("orchards.span.toml");
    let text = fs::read_to_string(&path).expect("read") + "except = [{ pair = [\"packhouse-7\", \"coldstore-7\"], generation = 2 }]\n";
    fs::write(&path, text).expect("written");
    let (code, out, _) = uspan(folder, &["build", "orchards.span.toml", "-o", "delta", "--changed-since", "out"]);
    assert_eq!(code, Some(0), "{out}");
    let delta: Vec<_> = standing(&folder.join("delta")).into_keys().filter(|path| path != "uspan-manifest.json").collect();
    assert_eq!(
        delta,
        [
            "coldstore-7/etc/ipsec.d/coldstore-7--packhouse-7.secrets",
            "coldstore-7/take-up.sh",
            "packhouse-7/etc/swanctl/conf.d/coldstore-7--packhouse-7.secrets.conf",
            "packhouse-7/take-up.sh"
        ]
    );
    let (code, out, _) = uspan(folder, &["rehearse", "orchards.span.toml", "--changed-since", "out", "--format", "json"]);
    let told: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, &told["count"], &told["unchanged"]), (Some(0), &1.into(), &129.into()), "{out}");
    let (_, out, _) = uspan(folder, &["check", "orchards.span.toml", "--changed-since", "out"]);
    assert!(out.contains("1 tunnel like this one") && out.contains("129 of 130 tunnels are as they were."), "{out}");
    let (code, out, _) = uspan(folder, &["rehearse", "orchards.span.toml"]);
    assert_eq!(code, Some(0), "{out}");
    assert!(out.ends_with("All 130 tunnels come up and get new keys.\n"), "{out}");
    let (code, out, _) = uspan(folder, &["compare", "out", "--against", "orchards.span.toml"]);
    assert_eq!(code, Some(1), "{out}");
    assert!(out.contains("coldstore-7") && out.contains("2 of 260 gateways"), "{out}");
}

/// A packet between two members takes two tunnels, and its answer the same ones back.
#[test]
fn a_walk_goes_on_through_a_hub() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fleet(folder, 0, 1);
    let site = |name: &str, platform: &str, address: &str, net: &str| {
        format!(
            "[site.{name}]\nplatform = \"{platform}\"\nstyle = \"route-based\"\nnetworks = {{ lan = \"{net}\" }}\n\
             gateway = {{ address = \"{address}\", outside = \"wan0\", inside = \"lan0\" }}\n"
        )
    };
    let sites = [
        site("packhouse", "strongswan", "198.51.100.20", "10.41.0.0/22"),
        site("coldstore", "libreswan", "203.0.113.77", "10.73.16.0/20"),
        site("press", "strongswan", "203.0.113.78", "10.74.0.0/24"),
    ];
    let group = "[group.harvest]\nshape = \"star\"\nhubs = [\"packhouse\"]\nmembers = [\"coldstore\", \"press\"]\nmaster = \"master\"\n";
    let text = format!("unified-span = 1\n{}{group}transit = [\"10.72.0.0/13\"]\n", sites.concat());
    fs::write(folder.join("star.span.toml"), text).expect("written");
    let walked = |from: &str, to: &str| {
        let (code, out, err) = uspan(folder, &["walk", "star.span.toml", "--from", from, "--to", to, "--format", "json"]);
        let told: Value = serde_json::from_str(&out).unwrap_or_else(|_| panic!("{out}{err}"));
        let places = |leg: &str| -> Vec<String> {
            let hops = told[leg]["hops"].as_array().cloned().unwrap_or_default();
            let mut places: Vec<_> = hops.iter().map(|hop| hop["at"].as_str().expect("a place").to_owned()).collect();
            places.dedup();
            places
        };
        (code, places("there"), places("back"))
    };
    let through = |places: &[&str]| places.iter().map(|place| (*place).to_owned()).collect::<Vec<_>>();
    let there = through(&["coldstore", "internet", "packhouse", "internet", "press"]);
    let back: Vec<_> = there.iter().rev().cloned().collect();
    assert_eq!(walked("10.73.16.10", "10.74.0.10"), (Some(0), there, back));
    // The hub's own hosts are at its own end, and nobody is where no member is.
    let (code, there, _) = walked("10.73.16.10", "10.41.0.10");
    assert_eq!((code, there), (Some(0), through(&["coldstore", "internet", "packhouse"])));
    let (code, there, back) = walked("10.73.16.10", "10.75.0.10");
    assert_eq!((code, there, back), (Some(1), through(&["coldstore", "internet", "packhouse"]), Vec::new()));
    // What is new since an earlier build is all that is rehearsed.
    assert_eq!(uspan(folder, &["build", "star.span.toml", "-o", "out"]).0, Some(0));
    let rehearsed = |args: &[&str]| uspan(folder, &[&["rehearse", "star.span.toml", "--changed-since", "out"], args].concat());
    assert_eq!(rehearsed(&[]).1, "Fine. All 2 tunnels are as they were.\n");
    let text = fs::read_to_string(folder.join("star.span.toml")).expect("read");
    let except = "except = [{ pair = [\"packhouse\", \"press\"], generation = 2 }]\n";
    fs::write(folder.join("star.span.toml"), text + except).expect("written");
    let (code, out, _) = rehearsed(&["--format", "json"]);
    let told: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, told["rehearsals"].as_array().expect("a list").len()), (Some(0), 1), "{out}");
    // Two folders have no counterparts in others, and one tunnel is one.
    for args in [&["--tunnel", "packhouse--press"][..], &["out"]] {
        assert_eq!(rehearsed(args).0, Some(2), "{args:?}");
    }
}

/// A daemon with one main file for all tunnels gets a line of each.
#[test]
fn a_hub_of_very_many_has_each_of_them_in_its_main_file() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fleet(folder, 0, 1);
    let mut rows = String::from("name,gateway.address,networks\n");
    for number in 1..=110 {
        rows.push_str(&format!("press-{number},203.0.113.{number},10.80.{number}.0/24\n"));
    }
    fs::write(folder.join("orchards.csv"), rows).expect("written");
    let description = "unified-span = 1\n[site.packhouse]\nplatform = \"openiked\"\n\
         gateway = { address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }\nnetworks = { office = \"10.41.0.0/22\" }\n\
         [inventory.orchards]\nfile = \"orchards.csv\"\n\
         all = { platform = \"strongswan\", gateway = { outside = \"eth0\", inside = \"eth1\" } }\n\
         [group.harvest]\nshape = \"star\"\nhubs = [\"packhouse\"]\nmembers = [\"orchards\"]\nmaster = \"master\"\n\
         policy = { ike-lifetime = \"30m\", esp-lifetime = \"10m\" }\n";
    fs::write(folder.join("star.span.toml"), description).expect("written");
    let (code, out, err) = uspan(folder, &["build", "star.span.toml", "-o", "out"]);
    assert_eq!(code, Some(0), "{out}{err}");
    let main = fs::read_to_string(folder.join("out/packhouse/etc/iked.conf")).expect("read");
    let named: Vec<_> = main.lines().filter(|line| line.contains("packhouse--press-")).collect();
    assert_eq!(named.len(), 110, "{main}");
    let (code, out, _) = uspan(folder, &["compare", "out", "--against", "star.span.toml"]);
    assert_eq!((code, out.as_str()), (Some(0), "Fine. All 111 gateways are as described.\n"));
    let (code, out, _) = uspan(folder, &["rehearse", "star.span.toml", "--built", "out"]);
    assert_eq!((code, out.as_str()), (Some(0), "Fine. All 110 tunnels come up and get new keys.\n"));
    // Who is missing in the file that all share is the one that is told.
    let without: String = main.split_inclusive('\n').filter(|line| !line.contains("packhouse--press-7.conf")).collect();
    assert!(without.len() < main.len(), "{main}");
    fs::write(folder.join("out/packhouse/etc/iked.conf"), without).expect("written");
    let (code, out, _) = uspan(folder, &["compare", "out", "--against", "star.span.toml"]);
    assert_eq!(code, Some(1), "{out}");
    assert!(out.contains("packhouse, packhouse--press-7: etc/iked.conf\n") && out.contains("1 of 111 gateways"), "{out}");
    let (code, out, _) = uspan(folder, &["rehearse", "star.span.toml", "--built", "out"]);
    assert_eq!(code, Some(1), "{out}");
    assert!(out.contains("packhouse--press-7: ") && out.contains("1 of 110 fail"), "{out}");
    for args in [&["draw", "star.span.toml", "-o", "x.svg"][..], &["sheet", "star.span.toml"], &["verify-steps", "star.span.toml"]] {
        let (code, _, err) = uspan(folder, args);
        assert!(code == Some(2) && err.contains("has 110 tunnels, too many to be shown one by one"), "{args:?}: {err}");
    }
    let (code, out, _) = uspan(folder, &["sheet", "star.span.toml", "--tunnel", "packhouse--press-7"]);
    assert!(code == Some(0) && out.contains("10.80.7.0/24"), "{out}");
}

#[test]
fn of_very_many_findings_a_few_of_each_kind_are_shown() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fleet(folder, 120, 1);
    let rows = fs::read_to_string(folder.join("orchards.csv")).expect("read").replace("::/64", "::1/64");
    fs::write(folder.join("orchards.csv"), rows).expect("written");
    let (code, out, err) = uspan(folder, &["check", "orchards.span.toml"]);
    assert_eq!(code, Some(1));
    assert_eq!(err.matches("error[US203]").count(), 3, "{err}");
    assert!(err.contains("and 237 more of US203; --format json lists all"), "{err}");
    assert!(out.starts_with("240 errors. Nothing would be written."), "{out}");
}

/// The folders in which outputs are laid out, left behind by builds that did not get to their end.
fn left_behind(folder: &Path) -> BTreeSet<String> {
    let names = fs::read_dir(folder).expect("read").flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name.starts_with(".uspan-")).collect()
}

/// Builds over an earlier output are killed at 200 moments: one of the two stands whole each time.
#[test]
fn a_build_that_is_killed_leaves_one_output_whole() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    let out = folder.join("out");
    let mut known = Vec::new();
    let mut length = Duration::ZERO;
    for generation in [1, 2] {
        fleet(folder, 12, generation);
        let start = Instant::now();
        assert_eq!(uspan(folder, &["build", "orchards.span.toml", "-o", "out"]).0, Some(0));
        length = start.elapsed();
        known.push(standing(&out));
    }
    assert_ne!(known[0], known[1]);
    // As many as it takes: a build may be faster or slower than those before it.
    let (mut killed, mut midway, mut tries, mut stands) = (0, 0, 0, 1);
    while killed < 200 || midway < 20 {
        tries += 1;
        assert!(tries < 5000, "{killed} killed, {midway} of them while they wrote");
        fleet(folder, 12, [2, 1][stands]);
        let left = left_behind(folder);
        let mut child = Command::new(PROGRAM)
            .args(["build", "orchards.span.toml", "-o", "out"])
            .current_dir(folder)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs");
        // Moments that are spread over a build, in no order.
        std::thread::sleep(length * (tries * 77 % 200) / 150);
        let _ = child.kill();
        if child.wait().expect("it ends").success() {
            length = length.mul_f64(0.9);
        } else {
            length = length.mul_f64(1.05);
            killed += 1;
            midway += u32::from(!left_behind(folder).is_subset(&left));
        }
        let now = standing(&out);
        stands = known.iter().position(|whole| *whole == now).unwrap_or_else(|| panic!("a mixture after the build number {tries}"));
    }
    eprintln!("{killed} of {tries} builds were killed, {midway} of them while they wrote");
    // What was laid out and not finished is cleared away by the next build.
    assert_eq!(uspan(folder, &["build", "orchards.span.toml", "-o", "out"]).0, Some(0));
    assert_eq!(left_behind(folder), BTreeSet::new());
}

/// In a mount namespace of its own a shell prepares a file system; the earlier output stands, and the message says so.
#[test]
fn a_full_disk_and_a_read_only_folder_leave_the_earlier_output() {
    let root = fs::metadata("/proc/self").is_ok_and(|meta| meta.uid() == 0);
    if !root {
        eprintln!("passed over: only root can mount");
        return;
    }
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fs::create_dir(folder.join("disk")).expect("made");
    let cases = [
        ("full", "mount -t tmpfs -o size=4m none disk", "dd if=/dev/zero of=disk/filler bs=1k 2>/dev/null", "No space left on device"),
        ("read-only", "mount -t tmpfs none disk", "mount -o remount,ro disk", "Read-only file system"),
    ];
    for (what, before, spoil, reason) in cases {
        fleet(folder, 20, 1);
        let other = fs::read_to_string(folder.join("orchards.span.toml")).expect("read").replace("generation = 1", "generation = 2");
        fs::write(folder.join("other.span.toml"), other).expect("written");
        let script = format!(
            "set -e; {before}; {PROGRAM} build orchards.span.toml -o disk/out >/dev/null; cp -a disk/out earlier-{what}; {spoil} || true\n\
             code=0; {PROGRAM} build other.span.toml -o disk/out || code=$?; echo \"exit $code\"; diff -r disk/out earlier-{what} && echo whole; ls -A disk"
        );
        let came = Command::new("unshare").args(["-m", "sh", "-c", &script]).current_dir(folder).output().expect("it runs");
        let (out, err) = (String::from_utf8_lossy(&came.stdout), String::from_utf8_lossy(&came.stderr));
        assert!(out.contains("exit 3\nwhole\n"), "{what}: {out}{err}");
        assert!(err.contains("the output stands as it was") && err.contains(reason), "{what}: {err}");
        assert!(!out.contains(".uspan-"), "{what}: {out}");
    }
}
