//! Parameter sheets: what they say, and what a partner's filled-in one makes of the description.

use crate::known;
use uspan_core::*;

const SECRET: &[u8] = b"not a real secret, only for this test";

const TEXT: &str = "# The orchard.\nunified-span = 1\n\n\
    [site.packhouse]\nplatform = \"strongswan\"\ngateway = { address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }\n\
    networks = { office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\" }\nidentity = { name = \"packhouse.example.net\" }\n\n\
    [site.coldstore]  # the partner's\nplatform = \"libreswan\"\ngateway = { address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }\n\
    networks = { racks = \"10.73.16.0/20\" }\n\n\
    [tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = { file = \"k\" }\nstrength = \"strong\"\nike-lifetime = \"8h\"  # as agreed\n";

fn supplied(guesses_log10: f64) -> Supplied {
    let file = SecretFile::Read { secret: Secret::new(SECRET.to_vec()), guesses_log10, drawn: guesses_log10 > 30.0, exposed: false };
    Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() }
}

fn planned(text: &str, guesses_log10: f64) -> (Description, Build, Supplied) {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert!(!any_stops(&findings), "{findings:#?}");
    let supplied = supplied(guesses_log10);
    let built = build(&description, &supplied);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    (description, built, supplied)
}

#[test]
fn a_sheet_says_each_parameter_in_all_its_words() {
    let (description, built, supplied) = planned(TEXT, 40.0);
    let sheet = sheet(&description, &built.tunnels[0], &built, &supplied).expect("a sheet");
    let row = |what: &str| sheet.agreed.iter().find(|row| row.what == what).unwrap_or_else(|| panic!("no row {what}"));
    let first = &row("IKE proposals").value[0];
    assert_eq!(first.words, "aes-256-gcm, prf sha2-384, group ecp-384");
    assert_eq!(first.registry.as_deref(), Some("ENCR_AES_GCM_16 (20), 256 bits; PRF_HMAC_SHA2_384 (6); 384-bit random ECP group (20)"));
    assert_eq!(first.why.as_deref(), Some("first choice of both"));
    let spelled =
        |what: &str| row(what).written.each_ref().map(|written| written.as_ref().map(|(spelling, _)| spelling.clone()).unwrap_or_default());
    assert_eq!(spelled("lifetime of ESP"), ["life_time = 3600s", "salifetime=3600s"]);
    assert_eq!(row("ESP in UDP").by_default, [true, true]);
    // What holds for all pairs goes without names; what is of one has its name.
    assert!(row("PFS").children.is_empty());
    let pairs: Vec<_> = sheet.agreed.iter().filter(|row| row.what == "what may cross").map(|row| row.children.clone()).collect();
    assert_eq!(pairs, [["harvest_office_racks"], ["harvest_graders_racks"]]);
    let fact = |what: &str| sheet.facts.iter().find(|fact| fact.what == what).expect("a fact").values.clone();
    assert_eq!(
        fact("networks"),
        [vec!["office 10.41.0.0/22".to_owned(), "graders 10.41.8.0/24".to_owned()], vec!["racks 10.73.16.0/20".to_owned()]]
    );
    assert_eq!(sheet.handovers.len(), 1);
}

/// A fingerprint of a secret that could be guessed would let anybody who hears it try guesses.
#[test]
fn a_secret_that_could_be_guessed_has_no_fingerprint() {
    for (guesses, there) in [(40.0, true), (20.0, false)] {
        let (description, built, supplied) = planned(TEXT, guesses);
        let sheet = sheet(&description, &built.tunnels[0], &built, &supplied).expect("a sheet");
        assert_eq!(sheet.handovers[0].check.is_some(), there, "{guesses}");
        assert!(sheet.handovers[0].check.as_ref().is_none_or(|check| check.len() == 32));
    }
}

/// The form as its Markdown table, with these values in the last column.
fn filled_in(form: &Form, values: &[(&str, &str)]) -> String {
    let mut text = "# A sheet\n\n| field | what | as we have it | yours |\n|---|---|---|---|\n".to_owned();
    for field in &form.fields {
        let value = values.iter().find(|(code, _)| *code == field.code).map_or("", |(_, value)| value);
        text += &format!("| {} | {} | {} | {value} |\n", field.code, field.what, field.proposed);
    }
    text
}

fn refilled(values: &[(&str, &str)]) -> Refilled {
    let (description, built, supplied) = planned(TEXT, 40.0);
    let form = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    fill(&description, &form, &Source::new("coldstore.md", filled_in(&form, values).as_str()))
}

#[test]
fn a_sheet_that_nobody_changed_changes_nothing() {
    let refilled = refilled(&[]);
    assert_eq!((refilled.text.as_deref(), refilled.changed.len()), (Some(TEXT), 0));
    // The values as they are proposed, copied into the last column, are none either.
    let (description, built, supplied) = planned(TEXT, 40.0);
    let form = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    let same: Vec<(&str, &str)> = form.fields.iter().map(|field| (field.code.as_str(), field.proposed.as_str())).collect();
    let again = fill(&description, &form, &Source::new("coldstore.md", filled_in(&form, &same).as_str()));
    assert_eq!((again.text.as_deref(), again.changed.len(), again.findings.len()), (Some(TEXT), 0, 0));
}

#[test]
fn a_filled_in_sheet_becomes_the_description_and_its_remarks_stay() {
    let refilled = refilled(&[
        ("platform", "a gateway of the partner's, version 7"),
        ("address", "203.0.113.99"),
        ("own-address", "10.99.0.2"),
        ("identity", "gate.coldstore.example.net"),
        ("network racks", "10.73.32.0/20"),
        ("ike 1", "none"),
        ("ike 2", "ENCR_AES_CBC, 256 bits; AUTH_HMAC_SHA2_256_128; PRF_HMAC_SHA2_256; group 19"),
        ("ike 3", "none"),
        ("esp 1", "ENCR_AES_CBC (12), 256 bits; AUTH_HMAC_SHA2_256_128 (12)"),
        ("esp 2", "none"),
        ("esp 3", "none"),
        ("pfs", "group 19"),
        ("ike-lifetime", "4 h"),
        ("initiator", "either"),
    ]);
    assert!(refilled.findings.is_empty(), "{:#?}", refilled.findings);
    let text = refilled.text.expect("a description");
    assert!(
        text.starts_with("# The orchard.\n") && text.contains("[site.coldstore]  # the partner's") && text.contains("# as agreed"),
        "{text}"
    );
    let (description, built, _) = planned(&text, 40.0);
    let agreement = &built.tunnels[0].agreement;
    assert_eq!(agreement.ike.iter().map(ToString::to_string).collect::<Vec<_>>(), ["aes-256-cbc + sha2-256, prf sha2-256, group ecp-256"]);
    assert_eq!(agreement.esp.iter().map(ToString::to_string).collect::<Vec<_>>(), ["aes-256-cbc + sha2-256, pfs ecp-256"]);
    assert_eq!(agreement.ike_lifetime.hard.as_secs(), 4 * 3600);
    let site = &description.sites[1];
    assert_eq!(site.address.value.to_string(), "203.0.113.99");
    assert_eq!(site.own_address.as_ref().map(|own| own.value.to_string()).as_deref(), Some("10.99.0.2"));
    assert_eq!(site.identity().to_string(), "gate.coldstore.example.net");
    assert_eq!(site.networks[0].prefix.value.to_string(), "10.73.32.0/20");
    assert_eq!(site.note.as_deref(), Some("coldstore runs a gateway of the partner's, version 7"));
}

macro_rules! misread {
    ($($name:ident: $field:literal, $value:literal => $says:literal;)*) => {$(
        #[test]
        fn $name() {
            let refilled = refilled(&[($field, $value)]);
            assert_eq!(refilled.text, None);
            let finding = &refilled.findings[0];
            assert_eq!(finding.rule.code, "US805");
            assert!(finding.message.contains($says), "{}", finding.message);
            // It points at what was filled in.
            let place = finding.place.as_ref().expect("a place");
            assert_eq!(&*place.file, "coldstore.md");
        }
    )*};
}

misread! {
    an_address_that_is_none: "address", "somewhere else" => "an address, a DNS name or `dynamic`";
    a_network_with_host_bits: "network racks", "10.73.16.9/20" => "without host bits";
    a_cipher_that_is_not_registered: "ike 1", "AES; SHA; 14" => "`AES`: the length of the key is not said";
    an_ike_proposal_without_a_group: "ike 1", "ENCR_AES_GCM_16, 256 bits; PRF_HMAC_SHA2_256" => "a group among them";
    a_group_that_is_none: "pfs", "group 9999" => "a group by its number";
    a_time_that_is_none: "esp-lifetime", "soon" => "a time such as";
    another_opener: "initiator", "theirs" => "`coldstore`, `packhouse` or `either`";
}

#[test]
fn a_row_of_another_sheet_is_named() {
    let (description, built, supplied) = planned(TEXT, 40.0);
    let form = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    let sheet = "| network office | x | 10.41.0.0/22 | 10.41.4.0/22 |\n";
    let refilled = fill(&description, &form, &Source::new("packhouse.md", sheet));
    assert_eq!(refilled.findings[0].rule.code, "US806");
    assert_eq!(refilled.text, None);
}

/// What the negotiation of the two gateways comes to.
fn rehearsed(description: &Description, built: &Build) -> RehearsalVerdict {
    let [tunnel] = &built.tunnels[..] else { panic!("one tunnel") };
    let actors = [0, 1].map(|end| {
        let site = description.sites.iter().find(|site| site.name.value == tunnel.ends[end]).expect("its site");
        let facts = &site.platform.value;
        let reading = ReadGateway {
            name: &tunnel.ends[end],
            gateway: &tunnel.gateways[end],
            ends_open: facts.own_end == OwnEnd::ByAddress,
            tree: built.trees.get(&tunnel.ends[end]),
        };
        Actor { reading, behaviour: &facts.behaviour, stands: site.stands() }
    });
    let came = rehearse(actors, None).all.remove(0);
    assert!(came.failures.is_empty() && came.doubts.is_empty(), "{:#?}{:#?}", came.failures, came.doubts);
    came.verdict()
}

/// A sheet as a partner filled it in, and lines that the description has then; whether their gateway is one of ours or of another make.
fn of_partner(values: &[(&str, &str)], more: &str, says: &[&str]) {
    let other = TEXT.replace("platform = \"libreswan\"", "platform = \"other\"").replace(", outside = \"eth0\", inside = \"eth1\"", "");
    for text in [TEXT, &other] {
        let (description, built, supplied) = planned(text, 40.0);
        let form = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
        let form_filled = filled_in(&form, values) + more;
        let refilled = fill(&description, &form, &Source::new("coldstore.md", form_filled.as_str()));
        let wrong: Vec<_> = refilled.findings.iter().filter(|finding| finding.rule.code != "US809").collect();
        assert!(wrong.is_empty(), "{wrong:#?}");
        let text = refilled.text.expect("a description");
        for line in says {
            assert!(text.contains(line), "{line} is not in\n{text}");
        }
        // What comes out is a description that can be built, and comes up as the sheet says.
        let (description, built, supplied) = planned(&text, 40.0);
        let [tunnel] = &built.tunnels[..] else { panic!("{:#?}\n{text}", built.findings) };
        assert!(!sheet(&description, tunnel, &built, &supplied).expect("a sheet").agreed.is_empty(), "{text}");
        assert_eq!(rehearsed(&description, &built), RehearsalVerdict::Up, "{text}");
    }
}

#[rustfmt::skip]
#[test]
fn partners_write_as_they_are_used_to() {
    let strong = r#"ike = [{ encryption = "aes-256-cbc", integrity = "sha2-256", group = "modp-2048" }]"#;
    let plain = r#"esp = [{ encryption = "aes-256-cbc", integrity = "sha2-256" }]"#;
    let one: &[(&str, &str)] = &[("ike 2", "-"), ("ike 3", "n/a"), ("esp 2", "-"), ("esp 3", "n/a")];
    let with = |values: &[(&'static str, &'static str)]| [one, values].concat();
    // Proposals from mails, screens and manuals.
    for (ike, esp) in [
        ("AES-256, SHA-256, group 14", "AES-256, SHA-256"),
        ("AES256-SHA256-MODP2048", "AES256-SHA256"),
        ("AES256-SHA256-DH14", "aes256 / sha2-256"),
        ("aes-256-cbc + sha2-256, group modp-2048", "aes-256-cbc + sha2-256"),
        ("AES (256 bit), SHA2 (256 bit), Diffie-Hellman group 14 (2048 bit MODP)", "AES-CBC (256 bit), HMAC-SHA-256-128"),
        ("Encryption: AES-256-CBC; Hash: SHA256; DH Group: 14", "Encryption: AES-256-CBC; Integrity: SHA256"),
        ("ENCR_AES_CBC (12), 256 bits; AUTH_HMAC_SHA2_256_128 (12); PRF_HMAC_SHA2_256 (5); 2048-bit MODP Group (14)", "ENCR_AES_CBC (12), 256 bits; AUTH_HMAC_SHA2_256_128 (12)"),
    ] {
        of_partner(&with(&[("ike 1", ike), ("esp 1", esp), ("pfs", "none")]), "", &[strong, plain, "pfs = false"]);
    }
    // An old gateway, with what it needs allowed and told.
    of_partner(
        &with(&[("ike 1", "AES-128, SHA-1, group 5"), ("esp 1", "AES-128, SHA-1"), ("pfs", "Group 5"), ("key-exchange", "IKE v1")]),
        "",
        &[r#"encryption = "aes-128-cbc", integrity = "sha1", group = "modp-1536""#, r#"pfs = "modp-1536""#, r#"version = "ikev1""#, r#"allows-weak = { modp-1536 = "coldstore has nothing better, by its sheet", sha1 ="#],
    );
    of_partner(&with(&[("ike 1", "3DES / MD5 / DH 5"), ("esp 1", "3DES / MD5"), ("pfs", "no")]), "", &[r#"encryption = "3des-cbc", integrity = "md5""#]);
    // Combined mode, with a hash that means nothing beside ESP; a group beside ESP is that of PFS.
    of_partner(
        &with(&[("ike 1", "AES-256-GCM, PRF SHA-384, ECP-384"), ("esp 1", "AES-256-GCM, SHA-384, DH 20")]),
        "",
        &[r#"ike = [{ encryption = "aes-256-gcm", prf = "sha2-384", group = "ecp-384" }]"#, r#"esp = [{ encryption = "aes-256-gcm" }]"#, r#"pfs = "ecp-384""#],
    );
    // Several in one.
    of_partner(
        &with(&[("ike 1", "AES 128/256, SHA 256/384, groups 14, 19"), ("esp 1", "AES-128-GCM or AES-256-GCM"), ("pfs", "yes, DH 14")]),
        "",
        &[r#"encryption = ["aes-128-cbc", "aes-256-cbc"], integrity = ["sha2-256", "sha2-384"], group = ["modp-2048", "ecp-256"]"#, r#"esp = [{ encryption = ["aes-128-gcm", "aes-256-gcm"] }]"#],
    );
    // Times.
    for (ike, esp) in [("480 minutes", "60 minutes"), ("28800", "3,600 s"), ("8 hours", "1 hour"), ("28800 sec (8 h)", "3600 seconds"), ("480 min", "60 min")] {
        of_partner(&[("ike-lifetime", ike), ("esp-lifetime", esp)], "", &[r#"ike-lifetime = "8h""#, r#"esp-lifetime = "1h""#]);
    }
    of_partner(&[("liveness", "10 s"), ("ike-lifetime", "86400")], "", &[r#"liveness = "10s""#, r#"ike-lifetime = "1d""#]);
    of_partner(&[("liveness", "not used")], "", &[r#"liveness = "off""#]);
    // Identities and addresses.
    of_partner(&[("identity", "FQDN: gate.coldstore.example.net")], "", &[r#"identity = { name = "gate.coldstore.example.net" }"#]);
    of_partner(&[("identity", "@gate.coldstore.example.net"), ("address", "203.0.113.99/32")], "", &[r#"identity = { name = "gate.coldstore.example.net" }"#, r#"address = "203.0.113.99""#]);
    of_partner(&[("identity", "IP address 10.99.0.2"), ("own-address", "10.99.0.2 (behind NAT)")], "", &[r#"identity = { address = "10.99.0.2" }"#, r#"own-address = "10.99.0.2""#]);
    of_partner(&[("identity", "gate@coldstore.example.net"), ("address", "203.0.113.99 (fixed)")], "", &[r#"identity = { mail = "gate@coldstore.example.net" }"#]);
    of_partner(&[("identity", "Key-ID: gate-7"), ("own-address", "none")], "", &[r#"identity = { free = "gate-7" }"#]);
    // Networks: with masks, several in a cell, and in rows of their own.
    of_partner(&[("network racks", "10.73.32.0 255.255.240.0")], "", &[r#"racks = "10.73.32.0/20""#]);
    of_partner(&[("network racks", "10.73.32.0/255.255.240.0; 10.74.0.0/24")], "", &[r#"racks = "10.73.32.0/20""#, r#"racks-2 = "10.74.0.0/24""#]);
    of_partner(&[], "| network cellar | the cellar | | 10.74.1.0/24 |\n| network roof | | | |\n", &[r#"cellar = "10.74.1.0/24""#]);
    // Who opens it, and what is for people.
    of_partner(&[("initiator", "Both")], "", &[r#"initiator = "either""#]);
    of_partner(&[("initiator", "responder only")], "", &[r#"initiator = "packhouse""#]);
    of_partner(&[("initiator", "we do"), ("ticket", "CHG-4711"), ("contact", "Ines, extension 41"), ("valid-until", "end of 2027")], "", &[r#"initiator = "coldstore""#, r#"note = "contact: Ines, extension 41; ticket: CHG-4711; valid until: end of 2027""#]);
    // An SA for each pair, or one for all; what no end here counts is kept for people.
    for words in ["one SA per subnet pair", "separate", "One for each network pair"] {
        of_partner(&[("esp-sas", words), ("traffic-limit", "4608000 kB")], "", &[r#"esp-sas = "per-pair""#, r#"note = "traffic limit: 4608000 kB""#]);
    }
    // What was copied out of a page, and what was typed below it.
    of_partner(&[], "network racks\ta network behind it\t10.73.16.0/20\t10.73.48.0/20\npfs: group 20\n", &[r#"racks = "10.73.48.0/20""#, r#"pfs = "ecp-384""#]);
}

/// What is not understood is shown where it stands, to the word.
#[test]
fn the_place_is_that_of_the_word() {
    let (description, built, supplied) = planned(TEXT, 40.0);
    let form = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    for (field, value, word) in
        [("ike 1", "AES-256, Whirlpool, group 14", "Whirlpool"), ("network racks", "10.73.16.0/20, 10.74.0.9/24", "10.74.0.9/24")]
    {
        let sheet = filled_in(&form, &[(field, value)]);
        let refilled = fill(&description, &form, &Source::new("coldstore.md", sheet.as_str()));
        let place = refilled.findings[0].place.as_ref().expect("a place");
        assert_eq!(&sheet[place.span.start..place.span.end], word);
        assert_eq!(refilled.text, None);
    }
}

/// Each field that was filled in is told as it was understood.
#[test]
fn what_was_understood_is_told() {
    let (description, built, supplied) = planned(TEXT, 40.0);
    let before = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    let answers = [
        ("network racks", "10.73.32.0 255.255.240.0; 10.74.0.0/24"),
        ("ike 1", "-"),
        ("ike 2", "AES256 SHA256 DH14"),
        ("ike 3", "n/a"),
        ("ike-lifetime", "480 minutes"),
        ("esp-lifetime", "7200"),
    ];
    let sheet = filled_in(&before, &answers);
    let refilled = fill(&description, &before, &Source::new("coldstore.md", sheet.as_str()));
    let text = refilled.text.clone().expect("a description");
    let (description, built, supplied) = planned(&text, 40.0);
    let after = form(&description, &built.tunnels[0], 1, &supplied).expect("a form");
    let now: Vec<_> = refilled.now(&before, &after).into_iter().map(|(one, now)| (one.field, one.before == now, now)).collect();
    let says = |field: &str| now.iter().find(|(known, ..)| known == field).map(|(_, same, now)| (*same, now.as_str()));
    assert_eq!(says("network racks"), Some((false, "10.73.32.0/20")));
    assert_eq!(says("network racks-2"), Some((false, "10.74.0.0/24")));
    assert_eq!(says("ike 1"), Some((false, "none")));
    assert!(says("ike 2").is_some_and(|(_, now)| now.starts_with("ENCR_AES_CBC (12), 256 bits; AUTH_HMAC_SHA2_256_128")), "{now:#?}");
    assert_eq!(says("ike-lifetime"), Some((true, "8h")));
    assert_eq!(says("esp-lifetime"), Some((false, "2h")));
    // A table in one line stays one as people write it.
    assert!(text.contains("{ racks = \"10.73.32.0/20\", racks-2 = \"10.74.0.0/24\" }"), "{text}");
}

/// A site is called as people call it wherever people look, and by its name everywhere else.
#[test]
fn a_title_stands_in_pictures_and_sheets() {
    let text = TEXT
        .replace("platform = \"strongswan\"", "title = \"Packhaus Süd\"\nplatform = \"strongswan\"")
        .replace("platform = \"libreswan\"", "title = \"Kühlhaus & Söhne\"\nplatform = \"libreswan\"");
    let (description, built, supplied) = planned(&text, 40.0);
    let [tunnel] = &built.tunnels[..] else { panic!("one tunnel") };
    let titles = ["Packhaus Süd".to_owned(), "Kühlhaus & Söhne".to_owned()];
    assert_eq!(sheet(&description, tunnel, &built, &supplied).expect("a sheet").titles, titles);
    let picture = draw(&description, &built.tunnels, Theme::Auto).expect("a picture").svg;
    assert!(picture.contains("Packhaus Süd") && picture.contains("Kühlhaus &amp; Söhne"), "{picture}");
    // Files and their folders keep the name.
    assert_eq!(built.trees.keys().collect::<Vec<_>>(), ["coldstore", "packhouse"]);
    assert_eq!(built.trees, planned(TEXT, 40.0).1.trees);
    // A partner says who opens by the title that their sheet has.
    let form = form(&description, tunnel, 1, &supplied).expect("a form");
    let answer = filled_in(&form, &[("initiator", "Kühlhaus & Söhne")]);
    let refilled = fill(&description, &form, &Source::new("coldstore.md", answer.as_str()));
    assert!(refilled.text.expect("a description").contains("initiator = \"coldstore\""));
    // It has room in a picture.
    let long = text.replace("Packhaus Süd", &"ü".repeat(33));
    let (_, findings) = Description::parse(&Source::new("orchard.span.toml", long.as_str()), known::context());
    assert_eq!(findings.iter().map(|finding| finding.rule.code).collect::<Vec<_>>(), ["US118"], "{findings:#?}");
}
