//! Sheets, pictures and steps as their users meet them.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;

use common::{orchard, uspan, write_keys};

#[test]
fn a_partners_sheet_goes_out_and_comes_back_filled_in() {
    let folder = orchard();
    let form = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--format", "markdown", "-o", "coldstore.md"];
    assert_eq!(uspan(folder.path(), &form).code, 0);
    let path = folder.path().join("coldstore.md");
    let sheet = fs::read_to_string(&path).expect("a sheet");
    // Nothing of how our platform spells it, and nothing of our inside.
    assert!(!sheet.contains("aes256gcm16") && !sheet.contains("lan0") && !sheet.contains("strongSwan"), "{sheet}");
    let blank = "| network racks | a network behind it | 10.73.16.0/20 |  |";
    assert!(sheet.contains(blank), "{sheet}");
    fs::write(&path, sheet.replace(blank, "| network racks | a network behind it | 10.73.16.0/20 | 10.73.32.0/20 |")).expect("written");
    let fill = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "coldstore.md", "-o", "new.span.toml"];
    let run = uspan(folder.path(), &fill);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("network racks  10.73.32.0/20\n               was 10.73.16.0/20\n"), "{}", run.stdout);
    assert!(run.stdout.contains("One value was filled in. Next: uspan build new.span.toml -o out"), "{}", run.stdout);
    let new = fs::read_to_string(folder.path().join("new.span.toml")).expect("a description");
    let old = fs::read_to_string(folder.path().join("orchard.span.toml")).expect("a description");
    assert_eq!(new.trim(), old.replace("10.73.16.0/20", "10.73.32.0/20").trim());
    // What is there is not written over unasked.
    assert_eq!(uspan(folder.path(), &fill).code, 2);
}

#[test]
fn a_value_that_cannot_be_understood_is_shown_where_it_stands_and_nothing_is_written() {
    let folder = orchard();
    let sheet =
        "| field | what | as we have it | yours |\n|---|---|---|---|\n| address | its public address | 203.0.113.77 | over there |\n";
    fs::write(folder.path().join("coldstore.md"), sheet).expect("written");
    let run =
        uspan(folder.path(), &["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "coldstore.md", "-o", "new.span.toml"]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.all().contains("US805") && run.all().contains("coldstore.md:3:49"), "{}", run.all());
    assert!(!folder.path().join("new.span.toml").exists());
}

/// The page as a browser saves it, with what was typed into it.
#[test]
fn a_page_that_was_filled_in_and_saved_is_read() {
    let folder = orchard();
    let form = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--format", "html", "-o", "coldstore.html"];
    assert_eq!(uspan(folder.path(), &form).code, 0);
    let path = folder.path().join("coldstore.html");
    let page = fs::read_to_string(&path).expect("a page");
    let at = page.find("10.73.16.0/20</td>").expect("the network") + "10.73.16.0/20</td>".len();
    let end = at + page[at..].find("</td>").expect("a cell");
    fs::write(&path, format!("{}10.73.32.0/20<br>{}", &page[..end], &page[end..])).expect("written");
    let fill = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "coldstore.html", "-o", "new.span.toml"];
    let run = uspan(folder.path(), &fill);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("network racks  10.73.32.0/20\n               was 10.73.16.0/20\n"), "{}", run.stdout);
    // The sheet has its own place for what is not understood.
    let wrong = fs::read_to_string(&path).expect("a page").replace("10.73.32.0/20<br>", "somewhere");
    fs::write(&path, wrong).expect("written");
    let run = uspan(folder.path(), &[&fill[..5], &["coldstore.html"]].concat());
    assert!(run.code == 1 && run.all().contains("US805") && run.all().contains("coldstore.html:"), "{}", run.all());
}

/// A partner's gateway of another make, from what it can do to the report; its sheet says what it really has.
#[test]
fn a_gateway_of_another_make_gets_a_list_and_everything_else_works() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    let at = text.find("[site.coldstore]").expect("a site");
    let end = at + text[at..].find("\n[tunnel").expect("a tunnel");
    let theirs = "[site.coldstore]\nplatform = \"other\"\ngateway = { address = \"203.0.113.77\" }\n\
        networks = { racks = \"10.73.16.0/20\" }\n\
        allows = { encryption = [\"aes-256-cbc\"], integrity = [\"sha2-256\"], group = [\"modp-2048\"] }\n";
    fs::write(&path, format!("{}{theirs}{}", &text[..at], &text[end..]).replace("strength = \"strong\"", "strength = \"common\""))
        .expect("written");
    let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", "out"]);
    assert!(run.code == 0 && run.stdout.contains("for whoever runs coldstore: out/coldstore/parameters"), "{}", run.all());
    let list = fs::read_to_string(folder.path().join("out/coldstore/parameters/harvest.txt")).expect("a list");
    assert!(
        list.contains("ENCR_AES_CBC (12), 256 bits; AUTH_HMAC_SHA2_256_128 (12); PRF_HMAC_SHA2_256 (5); 2048-bit MODP Group (14)"),
        "{list}"
    );
    // Nothing of the secret, and no files of a gateway that is none of ours.
    assert!(!list.contains(common::SECRET) && !folder.path().join("out/coldstore/etc").exists(), "{list}");
    // Whatever is said of their end holds if they set it so.
    let run = uspan(folder.path(), &["rehearse", "orchard.span.toml"]);
    assert!(run.code == 0 && run.stdout.contains("if coldstore is set as its list says"), "{}", run.all());
    let run = uspan(folder.path(), &["walk", "orchard.span.toml", "--from", "10.41.0.10", "--to", "10.73.16.10"]);
    assert!(run.code == 0 && run.stdout.contains("what it filters nobody here knows"), "{}", run.all());
    // A list alone does not hold what goes from hand to hand: of that nothing is said.
    let run = uspan(folder.path(), &["rehearse", "out/packhouse", "out/coldstore"]);
    assert!(run.code == 1 && run.stdout.contains("It cannot be said"), "{}", run.all());
    // A value that was changed in it is read.
    let changed = list.replace("IKE version: IKEv2", "IKE version: IKEv1");
    fs::write(folder.path().join("out/coldstore/parameters/harvest.txt"), changed).expect("written");
    let run = uspan(folder.path(), &["compare", "out/packhouse", "out/coldstore"]);
    assert!(run.code == 1 && run.stdout.contains("fatal"), "{}", run.all());
    for (args, says) in [
        (&["sheet", "orchard.span.toml"][..], "a gateway of another"),
        (&["report", "orchard.span.toml", "-o", "report.html"], "Reported"),
        (&["draw", "orchard.span.toml", "-o", "picture.svg"], "Drawn"),
        (&["verify-steps", "orchard.span.toml"], "On packhouse"),
    ] {
        let run = uspan(folder.path(), args);
        assert!(run.code == 0 && run.stdout.contains(says), "{args:?}: {}", run.all());
    }
    // What their gateway does with a carrier nobody here knows; the page says that too.
    let text = fs::read_to_string(&path).expect("read");
    fs::write(folder.path().join("carried.span.toml"), text.replace("strength = \"common\"", "strength = \"common\"\ncarrier = \"gre\""))
        .expect("written");
    assert_eq!(uspan(folder.path(), &["report", "carried.span.toml", "-o", "carried.html"]).code, 0);
    let page = fs::read_to_string(folder.path().join("carried.html")).expect("a page");
    assert!(page.contains("It cannot be said whether it arrives: what coldstore routes") && !page.contains("It does not arrive"), "{page}");
    // Its sheet comes back with what no daemon here has.
    let form = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--format", "markdown", "-o", "coldstore.md"];
    assert_eq!(uspan(folder.path(), &form).code, 0);
    let sheet = fs::read_to_string(folder.path().join("coldstore.md")).expect("a sheet");
    assert!(sheet.contains("| network racks | a network behind it | 10.73.16.0/20 |  |"), "{sheet}");
    let filled = sheet.replace("| 10.73.16.0/20 |  |", "| 10.73.16.0/20 | 10.73.32.0 255.255.240.0 |");
    fs::write(folder.path().join("coldstore.md"), filled).expect("written");
    let fill = ["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "coldstore.md", "-o", "new.span.toml"];
    assert_eq!(uspan(folder.path(), &fill).code, 0);
    assert_eq!(uspan(folder.path(), &["check", "new.span.toml"]).code, 0);
}

/// What is filled in can be well-formed and not fit the rest: then the description's own finding says so.
#[test]
fn a_value_that_does_not_fit_the_rest_stops_it() {
    let folder = orchard();
    let sheet = "| network racks | a network behind it | 10.73.16.0/20 | 10.41.0.0/22 |\n";
    fs::write(folder.path().join("coldstore.md"), sheet).expect("written");
    let run =
        uspan(folder.path(), &["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "coldstore.md", "-o", "new.span.toml"]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.all().contains("US208"), "{}", run.all());
    assert!(!folder.path().join("new.span.toml").exists());
}

#[test]
fn a_picture_is_svg_or_png_and_takes_no_place_unasked() {
    let folder = orchard();
    for name in ["picture.svg", "picture.png"] {
        let run = uspan(folder.path(), &["draw", "orchard.span.toml", "-o", name]);
        assert_eq!(run.code, 0, "{}", run.all());
        assert_eq!(uspan(folder.path(), &["draw", "orchard.span.toml", "-o", name]).code, 2);
        assert_eq!(uspan(folder.path(), &["draw", "orchard.span.toml", "-o", name, "--replace"]).code, 0);
    }
    assert!(fs::read(folder.path().join("picture.png")).expect("a picture").starts_with(b"\x89PNG"));
    let svg = fs::read_to_string(folder.path().join("picture.svg")).expect("a picture");
    assert!(svg.starts_with("<svg") && svg.contains("prefers-color-scheme:dark") && svg.contains(">racks</text>"));
    let run = uspan(folder.path(), &["draw", "orchard.span.toml", "-o", "other.svg", "--tunnel", "nothing"]);
    assert_eq!(run.code, 2, "{}", run.all());
}

#[test]
fn steps_name_the_commands_of_each_platform() {
    let folder = orchard();
    let run = uspan(folder.path(), &["verify-steps", "orchard.span.toml"]);
    assert_eq!(run.code, 0, "{}", run.all());
    for command in
        ["$ swanctl --list-sas --ike harvest", "$ ipsec whack --status", "$ nft list table ip uspan-harvest", "$ ip -s xfrm state"]
    {
        assert!(run.stdout.contains(command), "{command}: {}", run.stdout);
    }
    let json = uspan(folder.path(), &["verify-steps", "orchard.span.toml", "--format", "json"]).json();
    assert_eq!(json["tunnels"][0]["gateways"][1]["site"], "coldstore");
    assert!(json["tunnels"][0]["symptoms"].as_array().is_some_and(|all| all.len() >= 10));
    // The kernel asks for the SAs of one pair at a time, where traffic opens several.
    let waits = "one pair has its ESP SAs, another none";
    assert!(!json.to_string().contains(waits));
    let demo = fs::read_to_string(folder.path().join("orchard.span.toml")).expect("the demo");
    let lazy = demo.replace("[tunnel.harvest]", "[tunnel.harvest]\nopens = \"on-traffic\"");
    fs::write(folder.path().join("lazy.span.toml"), lazy).expect("written");
    let run = uspan(folder.path(), &["verify-steps", "lazy.span.toml", "--format", "json"]);
    assert!(run.stdout.contains(waits), "{}", run.all());
}

#[test]
fn a_sheet_is_the_same_in_every_form() {
    let folder = orchard();
    let json = uspan(folder.path(), &["sheet", "orchard.span.toml", "--format", "json"]).json();
    let rows = json["sheets"][0]["agreed"].as_array().expect("rows").clone();
    assert!(rows.len() >= 15);
    for format in ["text", "markdown", "html"] {
        let run = uspan(folder.path(), &["sheet", "orchard.span.toml", "--format", format]);
        assert_eq!(run.code, 0, "{}", run.all());
        for row in &rows {
            let what = row["what"].as_str().expect("a name");
            assert!(run.stdout.contains(what), "{format} lacks {what}");
        }
    }
}

/// Every row of a Markdown table has as many cells as its head.
#[test]
fn markdown_tables_are_whole() {
    let folder = orchard();
    for more in [&[][..], &["--partner", "coldstore"][..]] {
        let args = [&["sheet", "orchard.span.toml", "--format", "markdown"], more].concat();
        let run = uspan(folder.path(), &args);
        let mut cells = None;
        for line in run.stdout.lines() {
            let count = line.starts_with('|').then(|| line.replace("\\|", "").matches('|').count());
            assert!(cells.is_none() || count.is_none() || cells == count, "{line}");
            cells = count;
        }
    }
}

/// In a pipe there are 80 columns; only what cannot be broken is longer: a command, a path, a word.
#[test]
fn what_is_printed_fits_eighty_columns() {
    let folder = orchard();
    assert_eq!(uspan(folder.path(), &["build", "orchard.span.toml", "-o", "out"]).code, 0);
    let commands: &[&[&str]] = &[
        &["check", "orchard.span.toml", "--reasons"],
        &["compare", "out/packhouse", "out/coldstore", "--all"],
        &["rehearse", "orchard.span.toml"],
        &["walk", "orchard.span.toml", "--from", "10.41.0.10", "--to", "10.73.16.10"],
        &["sheet", "orchard.span.toml"],
        &["sheet", "orchard.span.toml", "--partner", "coldstore"],
        &["verify-steps", "orchard.span.toml"],
        &["platforms"],
        &["algorithms"],
        &["explain"],
    ];
    for args in commands {
        let run = uspan(folder.path(), args);
        let longest_word = |line: &str| line.split_whitespace().map(|word| word.chars().count()).max().unwrap_or(0);
        let long: Vec<_> = (run.stdout.lines())
            .filter(|line| line.chars().count() > 80 && !line.trim_start().starts_with('$') && longest_word(line) < 40)
            .collect();
        assert!(long.is_empty(), "{args:?}:\n{}", long.join("\n"));
    }
}

/// What the printed command makes of the file is the fingerprint that stands above it.
#[test]
fn fingerprints_are_what_their_commands_make() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let plain = fs::read_to_string(&path).expect("a description");
    write_keys(folder.path());
    let keyed = |lines: [&str; 2], how: &str| {
        let text = plain.replace("secret   = { file = \"secrets/harvest.key\" }", &format!("authentication = \"{how}\""));
        let text = text.replacen("platform        = \"strongswan\"", &format!("platform = \"strongswan\"\n{}", lines[0]), 1);
        text.replacen("platform        = \"libreswan\"", &format!("platform = \"strongswan\"\n{}", lines[1]), 1)
    };
    let public = ["packhouse", "coldstore"].map(|site| format!("keys = {{ public = \"keys/{site}.pub\", private = \"keys/{site}.key\" }}"));
    let certified = ["packhouse", "coldstore"]
        .map(|site| format!("keys = {{ certificate = \"keys/{site}.crt\", issuer = \"keys/ca.crt\", private = \"keys/{site}.key\" }}"));
    let cases = [
        (plain.clone(), 1),
        (keyed([&public[0], &public[1]], "public-keys"), 2),
        // One authority for both.
        (keyed([&certified[0], &certified[1]], "certificates"), 1),
    ];
    for (text, count) in cases {
        fs::write(&path, text).expect("written");
        let run = uspan(folder.path(), &["sheet", "orchard.span.toml", "--format", "json"]);
        assert_eq!(run.code, 0, "{}", run.all());
        let sheets = run.json();
        let handovers = sheets["sheets"][0]["handovers"].as_array().expect("a list");
        assert_eq!(handovers.len(), count);
        for handover in handovers {
            let (command, fingerprint) = (handover["command"].as_str().expect("text"), handover["fingerprint"].as_str().expect("text"));
            let output = std::process::Command::new("sh").args(["-c", command]).current_dir(folder.path()).output().expect("a shell");
            let said = String::from_utf8_lossy(&output.stdout).into_owned();
            assert_eq!(said.split_whitespace().next(), Some(fingerprint), "{command}: {}", String::from_utf8_lossy(&output.stderr));
        }
    }
}

/// A network that is in the description and in no tunnel is named wherever somebody could look for it.
#[test]
fn a_network_that_no_tunnel_carries_is_named() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    let text = text.replace("racks = \"10.73.16.0/20\"", "racks = \"10.73.16.0/20\", guests = \"10.20.30.0/24\"");
    let text = text.replace("strength = \"strong\"", "carries = [[\"office\", \"racks\"]]");
    fs::write(&path, text).expect("written");
    let check = uspan(folder.path(), &["check", "orchard.span.toml"]);
    assert!(check.code == 0 && check.stdout.contains("not reached") && check.stdout.contains("guests 10.20.30.0/24"), "{}", check.all());
    let json = uspan(folder.path(), &["check", "orchard.span.toml", "--format", "json"]).json();
    assert_eq!(json["tunnels"][0]["not_reached"], serde_json::json!([["10.41.8.0/24"], ["10.20.30.0/24"]]));
    assert!(uspan(folder.path(), &["sheet", "orchard.span.toml"]).stdout.contains("not reached through it"));
    let walk = uspan(folder.path(), &["walk", "orchard.span.toml", "--from", "10.20.30.5", "--to", "10.41.0.10"]);
    assert!(walk.code == 1 && walk.stdout.contains("In the description, and not in the tunnel"), "{}", walk.all());
    // Where nothing has it, the question is wrong.
    assert_eq!(uspan(folder.path(), &["walk", "orchard.span.toml", "--from", "10.99.30.5", "--to", "10.41.0.10"]).code, 2);
}
