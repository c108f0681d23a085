//! The description language as one table: the decoder checks against it, the JSON Schema and the
//! reference page are generated from it.
//!
//! To add a key: add a row here, take its value in `decode`, use it in `agreement` or `mirror`.

use std::borrow::Cow;

use uspan_dialects::context::Context;
use uspan_model::algorithm::PRESETS;

/// The version of the language this program knows.
pub const VERSION: i64 = 1;

/// One of the words a key can take.
#[derive(Clone, Debug)]
pub struct Choice {
    /// The word.
    pub word: Cow<'static, str>,
    /// What it means.
    pub means: Cow<'static, str>,
}

fn choice(word: &'static str, means: &'static str) -> Choice {
    Choice { word: Cow::Borrowed(word), means: Cow::Borrowed(means) }
}

/// What a value must look like.
#[derive(Clone, Copy)]
pub enum Shape {
    /// A whole number.
    Number,
    /// `true` or `false`.
    Flag,
    /// Text.
    Text {
        /// What it is, in words.
        is: &'static str,
        /// A pattern for editors; the decoder is the judge.
        pattern: &'static str,
    },
    /// One of a few words.
    Word(fn(&Context) -> Vec<Choice>),
    /// A table with the keys listed.
    Table(&'static [Key]),
    /// A table with some of the keys listed; none of them must be there.
    Part(&'static [Key]),
    /// A table whose keys are names or words of the user's.
    Map {
        /// The shape of each value.
        of: &'static Shape,
        /// What the keys stand for, in words.
        keys: &'static str,
    },
    /// A list, with the fewest entries it may have.
    List {
        /// The shape of each entry.
        of: &'static Shape,
        /// The fewest entries.
        at_least: usize,
    },
    /// One of several shapes.
    Either(&'static [Shape]),
}

impl Shape {
    /// The shape in words, for messages: "expected ...".
    pub fn words(&self, context: &Context) -> String {
        match self {
            Shape::Number => "a whole number".to_owned(),
            Shape::Flag => "`true` or `false`".to_owned(),
            Shape::Text { is, .. } => format!("{is} in quotes"),
            Shape::Word(choices) => {
                let words: Vec<_> = choices(context).iter().map(|c| format!("\"{}\"", c.word)).collect();
                words.join(" or ")
            }
            Shape::Table(keys) | Shape::Part(keys) => {
                let names: Vec<_> = keys.iter().map(|key| key.name).collect();
                format!("a table with {}", names.join(", "))
            }
            Shape::Map { keys, .. } => format!("a table of {keys}"),
            Shape::List { of, .. } => format!("a list, each entry {}", of.words(context)),
            Shape::Either(shapes) => shapes.iter().map(|shape| shape.words(context)).collect::<Vec<_>>().join(", or "),
        }
    }
}

/// Whether a key must be there, and what its absence means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    /// It must be written.
    Required,
    /// It may be left out; then this holds.
    Optional(&'static str),
}

/// One key of the language.
pub struct Key {
    /// The key.
    pub name: &'static str,
    /// What its value looks like.
    pub shape: Shape,
    /// Whether it must be there.
    pub need: Need,
    /// What it says.
    pub doc: &'static str,
    /// An example value, as it stands in a file.
    pub example: &'static str,
}

const fn key(name: &'static str, shape: Shape, need: Need, example: &'static str, doc: &'static str) -> Key {
    Key { name, shape, need, doc, example }
}

use Need::{Optional, Required};

const NAME: Shape = Shape::Text { is: "a name", pattern: "^[a-z][a-z0-9-]{0,31}$" };
const TITLE: Shape = Shape::Text { is: "a title of at most 32 characters", pattern: "^[^\\u0000-\\u001f\\u007f]{1,32}$" };
const TEXT: Shape = Shape::Text { is: "a text", pattern: "^[^\\u0000-\\u001f\\u007f]*$" };
const GATEWAY_ADDRESS: Shape =
    Shape::Text { is: "an IPv4 or IPv6 address, a DNS name, `dynamic` or `assigned`", pattern: "^[0-9A-Za-z:.-]+$" };
const ADDRESS: Shape = Shape::Text { is: "an IPv4 or IPv6 address", pattern: "^[0-9A-Fa-f:.]+$" };
const PREFIX: Shape = Shape::Text { is: "a network prefix such as \"10.41.0.0/22\"", pattern: "^[0-9A-Fa-f:.]+/[0-9]{1,3}$" };
const INTERFACE: Shape = Shape::Text { is: "the name of an interface", pattern: "^[A-Za-z0-9._@-]{1,15}$" };
const DURATION: Shape =
    Shape::Text { is: "a duration such as \"8h\", \"1h30m\" or \"3600s\"", pattern: "^(?=.)([0-9]+d)?([0-9]+h)?([0-9]+m)?([0-9]+s)?$" };
const PATH: Shape = Shape::Text { is: "the path of a file", pattern: "^.+$" };
const SERVICES: Shape = Shape::List { of: &SERVICE, at_least: 1 };
const SERVICE: Shape =
    Shape::Text { is: "the name of a service, or a protocol and ports", pattern: "^([a-z-]+|(tcp|udp)/[0-9]{1,5}(-[0-9]{1,5})?)$" };
const ALTERNATIVES: Shape = Shape::Either(&[ALGORITHM, Shape::List { of: &ALGORITHM, at_least: 1 }]);
const ALGORITHM: Shape = Shape::Text { is: "the name of an algorithm", pattern: "^.+$" };

/// The whole document.
#[rustfmt::skip]
pub static DOCUMENT: &[Key] = &[
    key("unified-span", Shape::Number, Required, "1",
        "The version of the description language."),
    key("site", Shape::Map { of: &Shape::Table(SITE), keys: "sites by name" }, Optional("the sites of `inventory` alone"), "",
        "The places: one table a site, `[site.NAME]`. A fact about a place stands here and nowhere else."),
    key("tunnel", Shape::Map { of: &Shape::Table(TUNNEL), keys: "tunnels by name" }, Optional("the tunnels of `group` alone"), "",
        "The intentions between two places: one table a tunnel, `[tunnel.NAME]`."),
    key("inventory", Shape::Map { of: &Shape::Table(INVENTORY), keys: "inventories by name" }, Optional("none"), "",
        "Sites that stand in a file of their own, `[inventory.NAME]`: a list that is kept elsewhere anyway."),
    key("group", Shape::Map { of: &Shape::Table(GROUP), keys: "groups by name" }, Optional("none"), "",
        "Many tunnels with one intention, `[group.NAME]`: a star, or everyone with everyone."),
];

/// Sites from a file.
#[rustfmt::skip]
pub static INVENTORY: &[Key] = &[
    key("file", PATH, Required, "\"orchards.csv\"",
        "The file, relative to the description: CSV with a line of headings (RFC 4180; commas, semicolons or tabs), or JSON: a list of objects, if its name ends in `.json`."),
    key("columns", Shape::Map { of: &TEXT, keys: "headings by key of a site" }, Optional("each heading is a key of a site"), "{ name = \"Site\", \"gateway.address\" = \"WAN address\" }",
        "Which column holds what: `name`, or a key of a site, such as `platform`, `gateway.address`, `identity.name`, `networks.office`; a column for `networks` holds prefixes, with blanks between them, each alone or as `name=prefix`; one for `peers` the names of other sites, for a group whose `shape` is `listed`. Columns that are not named here, nor keys themselves, are passed over."),
    key("all", Shape::Part(SITE), Optional("nothing"), "{ platform = \"strongswan\", gateway = { outside = \"wan0\", inside = \"lan0\" } }",
        "What all of its sites have; what the file says of a site goes before it."),
];

/// Many tunnels with one intention.
#[rustfmt::skip]
pub static GROUP: &[Key] = &[
    key("shape", Shape::Word(shapes), Required, "\"star\"",
        "Who is joined with whom."),
    key("members", Shape::List { of: &NAME, at_least: 1 }, Required, "[\"coldstore\", \"nursery\"]",
        "The sites; the name of an inventory stands for all of its sites."),
    key("hubs", Shape::List { of: &NAME, at_least: 1 }, Optional("none; a star needs one"), "[\"packhouse\"]",
        "The sites in the middle of a star: one, or two of which the second one stands in for the first. A network behind both is reached through the first; that needs `style = \"route-based\"` at the members."),
    key("master", PATH, Optional("it must be there where the tunnels use shared secrets"), "\"secrets/orchards.master\"",
        "The file with the master secret, from which each pair's own secret is derived (HKDF with SHA-256, RFC 5869, with the names of the two sites as context)."),
    key("generation", Shape::Number, Optional("1"), "2",
        "A number that goes into the derivation: another one gives all pairs new secrets."),
    key("initiator", Shape::Word(group_openers), Optional("members, those that others cannot find first"), "\"hubs\"",
        "Who opens the tunnels: the members, or those that they are joined with."),
    key("links", PREFIX, Optional("the interfaces have no addresses"), "\"10.255.0.0/16\"",
        "Where the addresses of tunnel interfaces come from: each pair gets a /31 (IPv6: /127) out of it that follows from its name alone."),
    key("transit", Shape::List { of: &PREFIX, at_least: 1 }, Optional("the members do not reach each other"), "[\"10.64.0.0/10\"]",
        "Lets the members of a star reach each other through the hubs: prefixes in which the networks of all members lie. That needs `style = \"route-based\"` at both ends."),
    key("policy", Shape::Part(TUNNEL), Optional("the defaults of a tunnel"), "{ strength = \"strong\" }",
        "What all of its tunnels have: the keys of a tunnel but for its ends, its secret and its link."),
    key("except", Shape::List { of: &Shape::Table(EXCEPTION), at_least: 0 }, Optional("no exceptions"), "[{ pair = [\"packhouse\", \"press\"], policy = { strength = \"compatible\" } }]",
        "Pairs that are otherwise."),
];

/// A pair of a group that is otherwise.
#[rustfmt::skip]
pub static EXCEPTION: &[Key] = &[
    key("pair", Shape::List { of: &NAME, at_least: 2 }, Required, "[\"packhouse\", \"press\"]",
        "The two sites."),
    key("left-out", Shape::Flag, Optional("false"), "true",
        "They have no tunnel."),
    key("generation", Shape::Number, Optional("that of the group"), "2",
        "Gives this pair alone a new secret."),
    key("link", PREFIX, Optional("out of the group's `links`"), "\"10.254.0.0/31\"",
        "Addresses for the tunnel interfaces of this pair."),
    key("policy", Shape::Part(TUNNEL), Optional("that of the group"), "{ strength = \"compatible\" }",
        "What this pair has instead of, or beside, what the group has."),
];

/// A site.
#[rustfmt::skip]
pub static SITE: &[Key] = &[
    key("platform", Shape::Word(platforms), Required, "\"strongswan\"",
        "The IKE daemon that runs on the gateway; or `other`, for a gateway of another make, which somebody else runs: for it there is a list of parameters instead of files, and `allows` says what it can do."),
    key("gateway", Shape::Table(GATEWAY), Required, "{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }",
        "The gateway itself: its address and its interfaces."),
    key("networks", Shape::Map { of: &PREFIX, keys: "prefixes by name" }, Optional("none: a host"), "{ office = \"10.41.0.0/22\" }",
        "The networks behind the gateway, each with a name of its own."),
    key("identity", Shape::Table(IDENTITY), Optional("the gateway's address or DNS name; the site's name as a DNS name, where the address is not known"), "{ name = \"packhouse.example.net\" }",
        "How the gateway names itself to its peers (RFC 7296 section 3.5). Exactly one kind."),
    key("keys", Shape::Table(KEYS), Optional("none"), "{ public = \"keys/packhouse.pub\", private = \"keys/packhouse.key\" }",
        "The files with the gateway's own key, for tunnels with `authentication = \"public-keys\"`, for which `uspan secret --pair` makes them, or `\"certificates\"`."),
    key("shares-internet", Shape::Flag, Optional("false"), "true",
        "The gateway translates what leaves for the internet to its own address; traffic for the tunnel must be kept out of that."),
    key("packet-filter", Shape::Word(packet_filters), Optional("nftables"), "\"iptables\"",
        "What translates and filters on the gateway; the exemption and the filter rules are written for it."),
    key("style", Shape::Word(styles), Optional("policy-based"), "\"route-based\"",
        "What steers packets into this site's tunnels; the two ends of a tunnel may differ."),
    key("as-number", Shape::Number, Optional("none; `routing = \"bgp\"` needs it"), "65001",
        "The site's autonomous system, for tunnels that carry a routing protocol; a private one is between 64512 and 65534 (RFC 6996)."),
    key("filter", Shape::Word(filter_forms), Optional("standalone"), "\"standalone\"",
        "How the filter rules reach the gateway's packet filter."),
    key("allows", Shape::Table(ALLOWS), Optional("all that its platform can do"), "{ encryption = [\"aes-256-cbc\"], group = [\"modp-2048\", \"ecp-256\"] }",
        "What may be used of what the platform can do: an older version, a licence or a policy leaves no more. Kinds that are not named are not narrowed."),
    key("title", TITLE, Optional("its name"), "\"Packhaus Süd\"",
        "What people call the site: pictures, sheets and reports show it in place of the name."),
    key("note", TEXT, Optional("no note"), "\"keys with Ines, extension 41\"",
        "A remark for people; it is copied into the files as a comment."),
];

/// A site's gateway.
#[rustfmt::skip]
pub static GATEWAY: &[Key] = &[
    key("address", GATEWAY_ADDRESS, Required, "\"198.51.100.20\"",
        "The address or DNS name under which the peer reaches the gateway; or `dynamic`: then it is recognised by its identity, and opens the tunnel itself; or `assigned`: it is not known yet, and is given with `--given` as soon as it is."),
    key("own-address", ADDRESS, Optional("`address`"), "\"10.99.0.2\"",
        "The address of the gateway's outside interface, where a NAT device stands before it and `address` is that device's."),
    key("outside", INTERFACE, Optional("it must be there, unless `platform` is `other`"), "\"wan0\"",
        "The interface towards the internet."),
    key("inside", Shape::Either(&[INTERFACE, Shape::List { of: &INTERFACE, at_least: 1 }]), Optional("none; a site with `networks` needs it, unless `platform` is `other`"), "\"lan0\"",
        "The interface, or interfaces, towards the protected networks."),
];

/// A site's keys.
#[rustfmt::skip]
pub static KEYS: &[Key] = &[
    key("public", PATH, Optional("none; `public-keys` need it"), "\"keys/packhouse.pub\"", "The file with the public key, relative to the description; the peers get it."),
    key("certificate", PATH, Optional("none; `certificates` need it"), "\"keys/packhouse.crt\"", "The file with the certificate of the public key, which names the site's identity; the gateway shows it to its peers."),
    key("issuer", PATH, Optional("none; `certificates` need it"), "\"keys/orchards-ca.crt\"", "The file with the certificate of the authority that issued that; the peers believe what it signs."),
    key("private", PATH, Optional("it stands on the gateway already"), "\"keys/packhouse.key\"", "The file with the private key, which goes to this gateway alone."),
];

/// A site's identity.
#[rustfmt::skip]
pub static IDENTITY: &[Key] = &[
    key("address", ADDRESS, Optional(""), "\"198.51.100.20\"", "An address (ID_IPV4_ADDR, ID_IPV6_ADDR)."),
    key("name", Shape::Text { is: "a DNS name", pattern: "^[A-Za-z0-9.-]+$" }, Optional(""), "\"packhouse.example.net\"", "A DNS name (ID_FQDN)."),
    key("mail", Shape::Text { is: "a mail-like name", pattern: "^.+@.+$" }, Optional(""), "\"gate@packhouse.example.net\"", "A mail-like name (ID_RFC822_ADDR)."),
    key("free", Shape::Text { is: "a free name", pattern: "^[A-Za-z0-9._+/:-]{1,64}$" }, Optional(""), "\"orchard-gate-7\"", "A name without form (ID_KEY_ID)."),
    key("subject", Shape::Text { is: "the subject of a certificate", pattern: "^.+=.+$" }, Optional(""), "\"C=US, O=Alder Creek Orchards, CN=packhouse\"", "The subject of the gateway's certificate, in its order (ID_DER_ASN1_DN)."),
];

const ALGORITHMS: Shape = Shape::List { of: &ALGORITHM, at_least: 1 };

/// What a site may use.
#[rustfmt::skip]
pub static ALLOWS: &[Key] = &[
    key("encryption", ALGORITHMS, Optional("all"), "[\"aes-256-cbc\"]", "Ciphers, for IKE and for ESP."),
    key("integrity", ALGORITHMS, Optional("all"), "[\"sha2-256\"]", "Integrity algorithms, for IKE and for ESP."),
    key("prf", ALGORITHMS, Optional("all"), "[\"sha2-256\"]", "Pseudo-random functions."),
    key("group", ALGORITHMS, Optional("all"), "[\"modp-2048\"]", "Key exchange groups, for IKE and for PFS."),
];

const PAIRS: Shape = Shape::List { of: &Shape::List { of: &NAME, at_least: 2 }, at_least: 1 };

/// A tunnel.
#[rustfmt::skip]
pub static TUNNEL: &[Key] = &[
    key("between", Shape::List { of: &NAME, at_least: 1 }, Required, "[\"packhouse\", \"coldstore\"]",
        "The two sites it joins."),
    key("authentication", Shape::Word(methods), Optional("shared-secret"), "\"public-keys\"",
        "How the gateways prove who they are."),
    key("secret", Shape::Table(SECRET), Optional("it must be there, unless `authentication` says something else"), "{ file = \"secrets/harvest.key\" }",
        "The shared secret with which the gateways prove who they are."),
    key("version", Shape::Word(versions), Optional("ikev2"), "\"ikev2\"",
        "The version of the key exchange."),
    key("aggressive", TEXT, Optional("main mode"), "\"their gateway of 2011 knows no other mode\"",
        "Aggressive mode of IKEv1 (RFC 2409 section 5.4), and why: with a shared secret it lets anybody who listens try secrets at leisure."),
    key("strength", Shape::Word(strengths), Optional("strong"), "\"strong\"",
        "A ready-made choice of proposals."),
    key("ike", Shape::List { of: &Shape::Table(IKE_PROPOSAL), at_least: 1 }, Optional("the proposals of `strength`"), "[{ encryption = \"aes-256-gcm\", prf = \"sha2-384\", group = \"ecp-384\" }]",
        "Proposals for the IKE SA, in order of preference, instead of `strength`."),
    key("esp", Shape::List { of: &Shape::Table(ESP_PROPOSAL), at_least: 1 }, Optional("the proposals of `strength`"), "[{ encryption = \"aes-256-gcm\" }]",
        "Proposals for ESP, in order of preference, instead of `strength`."),
    key("pfs", Shape::Either(&[Shape::Flag, ALGORITHM]), Optional("true"), "\"ecp-384\"",
        "Perfect forward secrecy at every rekey of ESP: `true` takes the group of the first IKE proposal, a name takes that group, `false` takes none."),
    key("ike-lifetime", DURATION, Optional("8h"), "\"8h\"",
        "How long an IKE SA may live at most; it is replaced before that."),
    key("esp-lifetime", DURATION, Optional("1h"), "\"1h\"",
        "How long an ESP SA may live at most; it is replaced before that."),
    key("carries", Shape::Either(&[PAIRS, Shape::Word(carried)]), Optional("every network of one site with every network of the other"), "[[\"office\", \"racks\"]]",
        "The pairs of networks that may cross, each `[network of the first site, network of the second]`; or `gateways`. In a pair `everything` stands for all that is reached through a site, the internet with it: what the other network sends goes there, unless another route has it; its gateway's own packets keep their way. That needs `style = \"route-based\"` at both sites, or `carrier = \"gre\"`."),
    key("esp-sas", Shape::Word(several), Optional("`per-pair` where both platforms can, otherwise `together`"), "\"together\"",
        "How several pairs of networks travel, where a partner asks for one of the two ways: the two ends must have the same."),
    key("mode", Shape::Word(modes), Optional("transport between gateways and for GRE, tunnel between networks"), "\"tunnel\"",
        "The mode of ESP (RFC 4301 section 3.2). What two gateways themselves send each other can travel in either, GRE too; between networks there is tunnel mode."),
    key("appears-as", Shape::Map { of: &Shape::Map { of: &PREFIX, keys: "prefixes by network" }, keys: "networks by site" }, Optional("every network crosses as it is"), "{ coldstore = { racks = \"10.200.16.0/20\" } }",
        "Networks that are translated on their way into the tunnel, so that the other site sees them as prefixes of the same length, one to one; or as one address, behind which all of a network stands, and whose hosts alone open connections: where both sites use the same addresses, or the other one uses these elsewhere."),
    key("services", Shape::Either(&[SERVICES, Shape::Map { of: &SERVICES, keys: "lists of services by site" }]), Optional("everything"), "[\"https\", \"tcp/8443\", \"ping\"]",
        "What connections through the tunnel may be for: names, or ports such as `tcp/8443` and `udp/5060-5070`, or `all`. One list for both directions, or a table with a list for each site whose hosts may open connections; replies always come back."),
    key("limited-to", Shape::Table(LIMIT), Optional("the selectors take every protocol"), "{ protocol = \"tcp\", ports = { coldstore = 443 } }",
        "The IP protocol, and the port at one of the sites, to which the selectors themselves are limited (RFC 7296 section 3.13.1): where a partner's gateway asks for that. To let only some services through, `services` is enough, and the SA serves them all."),
    key("one-way", NAME, Optional("the hosts of both sites may open connections"), "\"packhouse\"",
        "The only site whose hosts may open connections through the tunnel."),
    key("not-carried", Shape::Word(uncarried), Optional("dropped"), "\"left-alone\"",
        "What becomes of packets between networks of the two sites that are no pair of `carries`: without a tunnel they would leave for the internet in clear."),
    key("logs-drops", Shape::Flag, Optional("false"), "true",
        "What the filter drops of this tunnel's traffic is written to the gateway's log, five packets a second at most."),
    key("initiator", NAME, Optional("the first site of `between`, or the one whose address is `dynamic`"), "\"packhouse\"",
        "The site that opens the tunnel; the other one answers. Or `either`: then the second site of `between` opens it on traffic at the earliest, so that the two do not collide."),
    key("opens", Shape::Word(openings), Optional("at-once"), "\"on-traffic\"",
        "When it is opened."),
    key("carrier", Shape::Word(carriers), Optional("esp"), "\"gre\"",
        "In what packets travel between the gateways. With `gre` both ends have a tunnel interface, whatever the style of the sites."),
    key("routing", Shape::Word(routings), Optional("static"), "\"bgp\"",
        "How each gateway learns what stands behind the other. It believes nothing but the networks that the tunnel carries."),
    key("link", PREFIX, Optional("the interfaces have no addresses"), "\"10.255.0.0/31\"",
        "Addresses for the tunnel interfaces of two route-based ends, or of GRE: the first site of `between` gets the first one, the second the next."),
    key("path-mtu", Shape::Number, Optional("1500"), "1492",
        "The largest packet in bytes that the path between the gateways takes; the sizes inside the tunnel follow from it."),
    key("nat-traversal", Shape::Word(encapsulations), Optional("automatic"), "\"forced\"",
        "ESP in UDP, for a path with a NAT device or a filter that lets no ESP through (RFC 3948)."),
    key("replay-window", Shape::Number, Optional("128, or what the platform has"), "1024",
        "How many packets late an ESP packet may arrive (RFC 4303 section 3.4.3): more where parallel paths or queues reorder them."),
    key("extended-sequence-numbers", Shape::Flag, Optional("false"), "true",
        "Sequence numbers of 64 bits (RFC 4303 section 2.2.1), for links that use up 32 bits before the next rekey of ESP."),
    key("copies-dscp", Shape::Word(dscps), Optional("outwards"), "\"both\"",
        "What becomes of the DSCP, by which routers prefer some packets to others (RFC 4301 section 5.1.2)."),
    key("compression", Shape::Flag, Optional("false"), "false",
        "Compression before encryption (RFC 3173). It is refused: the size of a compressed packet tells of its content, and few daemons are left that do it."),
    key("liveness", Shape::Either(&[DURATION, Shape::Word(off)]), Optional("30s"), "\"30s\"",
        "How often a silent peer is asked whether it is still there (RFC 7296 section 2.4), or `off`."),
    key("allows-weak", Shape::Map { of: &TEXT, keys: "reasons by algorithm" }, Optional("none"), "{ \"3des-cbc\" = \"press controller of 2009, replaced in March\" }",
        "Weak algorithms that this tunnel may offer, each with the reason."),
    key("note", TEXT, Optional("no note"), "\"ticket 4711\"",
        "A remark for people; it is copied into the files as a comment."),
];

/// What the selectors of a tunnel are limited to.
#[rustfmt::skip]
pub static LIMIT: &[Key] = &[
    key("protocol", Shape::Text { is: "`tcp`, `udp`, `icmp` or `icmpv6`, or its number", pattern: "^[a-z0-9-]+$" }, Required, "\"tcp\"", "The IP protocol: `tcp`, `udp`, `icmp`, `icmpv6`, or its number (IANA protocol numbers)."),
    key("ports", Shape::Map { of: &Shape::Number, keys: "ports by site" }, Optional("every port"), "{ coldstore = 443 }", "The port at one of the two sites, of protocols that have some."),
];

/// A tunnel's secret.
#[rustfmt::skip]
pub static SECRET: &[Key] = &[
    key("file", PATH, Required, "\"secrets/harvest.key\"",
        "The file that holds it, relative to the description. One line; the line end does not belong to it."),
    key("in-use", TEXT, Optional("a secret that can be guessed is refused"), "\"with the tunnel as it was found; a new one in March\"",
        "Why a secret stays that could be guessed: gateways have it that cannot change theirs today."),
];

/// A proposal for the IKE SA.
#[rustfmt::skip]
pub static IKE_PROPOSAL: &[Key] = &[
    key("encryption", ALTERNATIVES, Required, "\"aes-256-cbc\"", "The cipher, or several in order of preference."),
    key("integrity", ALTERNATIVES, Optional("none, with a combined-mode cipher"), "\"sha2-256\"", "The integrity algorithm, or several; required unless the cipher is a combined-mode one."),
    key("prf", ALTERNATIVES, Optional("the hash of `integrity`"), "\"sha2-256\"", "The pseudo-random function, or several; required with a combined-mode cipher."),
    key("group", ALTERNATIVES, Required, "\"ecp-256\"", "The key exchange group, or several; the first one is tried first."),
];

/// A proposal for ESP.
#[rustfmt::skip]
pub static ESP_PROPOSAL: &[Key] = &[
    key("encryption", ALTERNATIVES, Required, "\"aes-256-gcm\"", "The cipher, or several in order of preference."),
    key("integrity", ALTERNATIVES, Optional("none, with a combined-mode cipher"), "\"sha2-256\"", "The integrity algorithm, or several; required unless the cipher is a combined-mode one."),
];

fn platforms(context: &Context) -> Vec<Choice> {
    context.profiles.iter().map(|profile| Choice { word: profile.word.clone(), means: profile.title.clone() }).collect()
}

fn strengths(_: &Context) -> Vec<Choice> {
    PRESETS.iter().map(|preset| choice(preset.name, preset.purpose)).collect()
}

fn packet_filters(context: &Context) -> Vec<Choice> {
    context.filters.iter().map(|filter| choice(filter.word(), filter.title())).collect()
}

fn shapes(_: &Context) -> Vec<Choice> {
    vec![
        choice("star", "each member with each hub"),
        choice("mesh", "each member with each other one"),
        choice("listed", "each member with those that its inventory names in the column `peers`"),
    ]
}

fn group_openers(_: &Context) -> Vec<Choice> {
    vec![
        choice("members", "each member, the hubs answer"),
        choice("hubs", "the hub, the members answer"),
        choice("either", "whoever has something to send"),
    ]
}

fn filter_forms(_: &Context) -> Vec<Choice> {
    vec![
        choice("standalone", "the gateway has no filter of its own; the rules come in a table of their own and hook in by themselves"),
        choice("joined", "the gateway has a filter that drops; the rules come as chains that its own table includes and jumps to"),
    ]
}

fn styles(_: &Context) -> Vec<Choice> {
    vec![
        choice("policy-based", "the selectors: what they name goes into the tunnel"),
        choice("route-based", "routes into a tunnel interface, and a black hole behind them"),
    ]
}

fn encapsulations(_: &Context) -> Vec<Choice> {
    vec![
        choice("automatic", "where a NAT device is found between the gateways"),
        choice("forced", "always"),
        choice("off", "never, even where that means that nothing crosses"),
    ]
}

fn routings(_: &Context) -> Vec<Choice> {
    vec![
        choice("static", "routes of its own configuration, where routes steer"),
        choice("bgp", "a BGP session (RFC 4271) between the addresses of `link`, in FRRouting's files"),
    ]
}

fn carried(_: &Context) -> Vec<Choice> {
    vec![choice(
        "gateways",
        "what the two gateways themselves send each other, and nothing from behind them: for hosts; in transport mode, unless `mode` says otherwise",
    )]
}

fn modes(_: &Context) -> Vec<Choice> {
    vec![choice("transport", "each packet keeps its own addresses"), choice("tunnel", "the whole packet is carried in another one")]
}

fn carriers(_: &Context) -> Vec<Choice> {
    vec![
        choice("esp", "ESP alone, in tunnel mode"),
        choice(
            "gre",
            "GRE (RFC 2784), protected by ESP in transport mode, unless `mode` says otherwise: for partners that have nothing else to route into, and for routing protocols",
        ),
    ]
}

fn several(_: &Context) -> Vec<Choice> {
    vec![
        choice("per-pair", "an ESP SA in each direction for each pair"),
        choice("together", "one for all of them, whose selectors are lists (RFC 7296 section 2.9)"),
    ]
}

fn uncarried(_: &Context) -> Vec<Choice> {
    vec![
        choice("dropped", "each gateway drops them, but for what another tunnel of its site carries"),
        choice("left-alone", "they go where the gateway's other routes lead, such as a line that nobody describes"),
    ]
}

fn dscps(_: &Context) -> Vec<Choice> {
    vec![
        choice("outwards", "the path sees it, and what the path makes of it is forgotten on arrival"),
        choice("both", "what the path made of it is taken over on arrival"),
        choice("never", "the path sees nothing of it"),
    ]
}

fn methods(_: &Context) -> Vec<Choice> {
    vec![
        choice("shared-secret", "both have the same secret"),
        choice("public-keys", "each signs with a key of its own, and the other one has its public part (RFC 7427)"),
        choice(
            "certificates",
            "each signs with a key of its own, and shows a certificate that names it, from an authority that the other one believes (RFC 7296 section 3.6)",
        ),
    ]
}

fn versions(_: &Context) -> Vec<Choice> {
    vec![choice("ikev2", "RFC 7296"), choice("ikev1", "RFC 2409, withdrawn by RFC 9395; for partners that have nothing else")]
}

fn openings(_: &Context) -> Vec<Choice> {
    vec![
        choice("at-once", "as soon as the daemon starts, and again whenever it is lost"),
        choice("on-traffic", "when the first packet wants to cross"),
        choice("by-hand", "when an engineer says so"),
    ]
}

fn off(_: &Context) -> Vec<Choice> {
    vec![choice("off", "no check")]
}
