//! Random descriptions and random gateways: what is built reads back and mirrors.

use std::collections::BTreeMap;

use crate::descriptions::{description, supplied};
use crate::gateways::CERTIFICATES;
use crate::known;
use ipnet::IpNet;
use proptest::prelude::*;

use uspan_core::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: known::cases(60), ..ProptestConfig::default() })]

    // Long: each law about one description.
    /// A valid description builds, both trees read back to the gateways that were held against each
    /// other, and they mirror.
    #[test]
    fn a_valid_description_builds_reads_back_and_mirrors(text in description(), secret in prop::collection::vec(1u8..=255, 16..80)) {
        let (description, findings) = Description::parse(&Source::new("random.span.toml", text.as_str()), known::context());
        prop_assert!(findings.is_empty(), "{text}\n{findings:#?}");
        let built = build(&description, &supplied(secret));
        prop_assert!(!any_stops(&built.findings), "{text}\n{:#?}", built.findings);
        prop_assert_eq!(built.trees.len(), 2);
        let tunnel = &built.tunnels[0];
        let mut read = Vec::new();
        for (name, gateway) in tunnel.ends.iter().zip(&tunnel.gateways) {
            let site = description.sites.iter().find(|site| site.name.value == *name).expect("a site");
            let (mut again, findings) = verify(&site.platform.value, site.packet_filter, &built.trees[name]);
            prop_assert!(findings.is_empty(), "{findings:#?}");
            site.platform.value.family.hand_over(&mut again, gateway);
            prop_assert_eq!(&again, gateway);
            prop_assert_eq!(changes(site, &built.trees[name], &built.trees[name], known::context()), []);
            read.push((again, site.shares_internet));
        }
        let site = |i: usize| description.sites.iter().find(|site| site.name.value == tunnel.ends[i]).expect("a site");
        let end = |i: usize| End {
            name: &tunnel.ends[i],
            gateway: &read[i].0,
            own: site(i).local(),
            reached: site(i).reached(),
            shares_internet: read[i].1,
            is_ours: !site(i).platform.value.is_run_by_others(),
        };
        prop_assert!(!any_stops(&cross_check(end(0), end(1))));
        // Whoever compares the files finds nothing fatal between the ends, and no difference of an end from itself.
        let reading = |i: usize| ReadGateway { name: &tunnel.ends[i], gateway: &read[i].0, ends_open: false, tree: Some(&built.trees[&tunnel.ends[i]]) };
        let compared = known::ends_compared([reading(0), reading(1)], [0, 1].map(|i| &*site(i).platform.value.word));
        prop_assert_eq!((compared.pairs.len(), compared.count(Gravity::Fatal)), (1, 0), "{:#?}", compared.pairs);
        // What others translate and route is not known.
        let of_others = (0..2).any(|i| site(i).platform.value.is_run_by_others());
        let is_hidden = of_others && (description.tunnels[0].gre.is_some() || !description.tunnels[0].appearances.is_empty());
        let same = compare_same(reading(0), reading(0));
        let differ = same.count(Gravity::Fatal) + if is_hidden { 0 } else { same.count(Gravity::Compatible) };
        prop_assert_eq!(differ, 0, "{:#?}", same.pairs);
        // Either end can open it, if it knows where the other one is; a packet crosses and its answer comes back.
        let facts = |i: usize| &site(i).platform.value;
        let actor = |i: usize| Actor {
            reading: ReadGateway { ends_open: facts(i).own_end == OwnEnd::ByAddress, ..reading(i) },
            behaviour: &facts(i).behaviour,
            stands: site(i).stands(),
        };
        for opener in [0, 1].into_iter().filter(|end| read[*end].0.connections[0].remote.value != Endpoint::Anywhere) {
            let came = rehearse([actor(0), actor(1)], Some(opener));
            prop_assert!(came.all.len() == 1 && came.all[0].works(), "from {opener}: {:#?}\n{text}", came.all);
        }
        let walker = |i: usize| Walker { actor: actor(i), inside: &[], shares_internet: Some(read[i].1), networks: &[] };
        let host = |net: IpNet| match net {
            IpNet::V4(net) if net.prefix_len() == 0 => "192.0.2.99".parse().expect("an address"),
            IpNet::V6(net) if net.prefix_len() == 0 => "2001:db8:ffff::99".parse().expect("an address"),
            net => net.broadcast(),
        };
        for (near, far) in read[0].0.crossing().into_iter().filter(|_| !read[0].0.speaks_for_itself() && !is_hidden) {
            let inner = read[0].0.inner(near, far);
            // What others filter is not known, and the other end lets through what is meant.
            let passing = match &description.tunnels[0].passes[0] {
                Passing::All => vec![Traffic::Ping],
                Passing::Only(list) => list.clone(),
            };
            for traffic in passing {
                let walked = walk([walker(0), walker(1)], &Flow { from: host(inner), to: host(far), traffic: traffic.clone() });
                prop_assert!(walked.as_ref().is_some_and(Walk::works), "{traffic}: {walked:#?}\n{text}");
            }
        }
        // Mirrored by hand, without the code under test.
        let (one, other) = (&read[0].0.connections[0], &read[1].0.connections[0]);
        prop_assert_eq!(&one.ike().proposals.value, &other.ike().proposals.value);
        for (near, far, end) in [(one, other, 0), (other, one, 1)] {
            // Behind a NAT device, by name and from anywhere the two see an end differently.
            let plain = site(end).own_address.is_none() && near.local.value != Endpoint::Anywhere;
            prop_assert!(!plain || near.local.value == far.remote.value, "{:?} {:?}", near.local.value, far.remote.value);
        }
        prop_assert_eq!(&one.ike().local_identity.value, &other.ike().remote_identity.value);
        prop_assert_eq!(&one.ike().remote_identity.value, &other.ike().local_identity.value);
        for (a, b) in one.children.iter().zip(&other.children) {
            prop_assert_eq!((&a.local.value, &a.remote.value), (&b.remote.value, &b.local.value));
            prop_assert_eq!(&a.esp.value, &b.esp.value);
        }
        match one.ike().local_method.value {
            Method::SharedSecret => prop_assert_eq!(read[0].0.secrets[0].secret.expose(), read[1].0.secrets[0].secret.expose()),
            Method::PublicKey => {
                prop_assert_eq!(&read[0].0.key_pairs[0].public, &read[1].0.pinned[0].public);
                prop_assert_eq!(&read[1].0.key_pairs[0].public, &read[0].0.pinned[0].public);
            }
            Method::Certificate => {
                let [ca, certificates @ ..] = &*CERTIFICATES;
                for (name, (gateway, _)) in tunnel.ends.iter().zip(&read) {
                    let own = &certificates[usize::from(name == "coldstore")];
                    prop_assert_eq!(gateway.key_pairs[0].certificate.as_ref(), Some(own));
                    prop_assert_eq!(gateway.authorities.as_slice(), std::slice::from_ref(ca));
                }
            }
        }
    }

    /// A note can hold anything printable and still changes nothing but comments.
    #[test]
    fn a_note_changes_nothing_but_comments(note in "[ -~äß]{1,60}") {
        let trees = |note: &str| {
            let quoted = toml_edit::Value::from(note);
            let text = include_str!("../../demo/orchard.span.toml").replace("[tunnel.harvest]", &format!("[tunnel.harvest]\nnote = {quoted}"));
            let (description, findings) = Description::parse(&Source::new("n", text.replace("secrets/harvest.key", "k")), known::context());
            assert_eq!(findings, []);
            build(&description, &supplied(b"0123456789abcdef0123456789abcdef".to_vec())).trees
        };
        let without_comments = |trees: &BTreeMap<String, Tree>| -> Vec<String> {
            let lines = trees.values().flat_map(|tree| tree.files.values()).flat_map(|file| file.text.lines());
            lines.filter(|line| !line.trim_start().starts_with('#')).map(str::to_owned).collect()
        };
        prop_assert_eq!(without_comments(&trees(&note)), without_comments(&trees("x")));
    }

    /// Whatever stands in a description, it is answered, not crashed on.
    #[test]
    fn any_text_is_answered(text in "(\\[site\\.a\\]|\\[tunnel\\.b\\]|platform|gateway|between|networks|carries|ike|=|\"|\\{|\\}|\\[|\\]|,|\n| |10\\.0\\.0\\.1/8|strongswan|[a-z]{1,3}|\\PC){0,60}") {
        let (description, _) = Description::parse(&Source::new("any", text), known::context());
        let _ = build(&description, &Supplied::default());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: known::cases(60), ..ProptestConfig::default() })]

    /// A reader survives any bytes, and names what it does not understand.
    #[test]
    fn a_reader_survives_anything(text in "(conn |connections|children|secrets|\\{|\\}|=|\"|#|\n|\t|also|auto=start|left=|table |chain |harvest|10\\.0\\.0\\.0/8| : PSK |0x|\\PC){0,60}") {
        let mut tree = Tree::default();
        for path in ["etc/swanctl/conf.d/a.conf", "etc/ipsec.d/a.conf", "etc/ipsec.d/a.secrets", "etc/nftables.d/a.nft", "etc/nftables.d/a.chains"] {
            tree.add(path, TreeFile::public(text.clone()));
        }
        for platform in &known::context().profiles {
            known::context().filters.iter().for_each(|filter| drop(verify(platform, *filter, &tree)));
        }
    }
}
