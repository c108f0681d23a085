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
    a_cipher_that_is_not_registered: "ike 1", "AES; SHA; 14" => "transforms of the IANA registries";
    an_ike_proposal_without_a_group: "ike 1", "ENCR_AES_GCM_16, 256 bits; PRF_HMAC_SHA2_256" => "transforms of the IANA registries";
    a_group_that_is_none: "pfs", "group 9999" => "a group by its number";
    a_time_that_is_none: "esp-lifetime", "soon" => "a time such as";
    another_opener: "initiator", "theirs" => "`yours`, `ours` or `either`";
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
