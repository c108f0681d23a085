//! US3xx: tunnels, what may cross, times and roles.

chapter! {
    UNKNOWN_SITE = "US301" "unknown-site" Error {
        what: "A tunnel names a site that the description does not have.",
        why: "Without the site there is no gateway to write for.",
        remedy: "Correct the name or describe the site.",
    }
    SAME_END = "US302" "same-end" Error {
        what: "Both ends of a tunnel are the same site.",
        why: "A gateway does not negotiate with itself.",
        remedy: "Name two different sites.",
    }
    NOT_TWO_ENDS = "US303" "not-two-ends" Error {
        what: "A tunnel does not join exactly two sites.",
        why: "A tunnel has two ends; a network of several sites is several tunnels.",
        remedy: "Write `between = [\"one-site\", \"other-site\"]`.",
    }
    UNKNOWN_NETWORK = "US304" "unknown-network" Error {
        what: "A pair names a network that its site does not have.",
        why: "A selector for a network that does not exist lets nothing cross.",
        remedy: "Correct the name, or add the network to the site.",
    }
    SAME_PAIR = "US305" "same-pair" Error {
        what: "The same pair of networks is carried twice.",
        why: "Two Child SAs with equal selectors replace each other for ever.",
        remedy: "Keep one of the two.",
    }
    PAIR_IN_TWO_TUNNELS = "US306" "pair-in-two-tunnels" Error {
        what: "Two tunnels of one gateway carry the same pair of networks.",
        why: "Both claim the same packets; which one sends them depends on which came up last.",
        remedy: "Carry the pair in one tunnel only.",
    }
    TWO_TUNNELS_ONE_PAIR_OF_GATEWAYS = "US307" "two-tunnels-one-pair-of-gateways" Error {
        what: "Two tunnels join the same two sites, and cannot share an IKE SA.",
        why: "The responder tells IKE SAs apart by addresses and identities, which are equal here: the two tunnels are Child SAs of one, with what belongs to each of them (`carries`, `services`, `mode`, ESP, its lifetime).",
        remedy: "Say the same of the IKE SA in both; or put all pairs into one tunnel with `carries`, where they may share the rest.",
    }
    MIXED_PAIR = "US308" "mixed-pair" Error {
        what: "A pair joins an IPv4 network with an IPv6 network.",
        why: "A packet has one family; nothing would ever match.",
        remedy: "Pair networks of the same family.",
    }
    NO_PAIR = "US309" "no-pair" Error {
        what: "The two sites have no networks of the same family.",
        why: "There would be nothing that may cross.",
        remedy: "Give both sites a network of the same family; or say `carries = \"gateways\"` where both are hosts.",
    }
    UNKNOWN_STARTER = "US310" "unknown-starter" Error {
        what: "The site that is to open the tunnel is neither of its ends.",
        why: "Then neither end would start, and the tunnel would never come up.",
        remedy: "Name one of the two ends, or `either`.",
    }
    LIFETIME_OUT_OF_RANGE = "US311" "lifetime-out-of-range" Error {
        what: "A lifetime that is too short to be kept up or too long to be safe.",
        why: "Under 5 minutes the gateways spend their time rekeying; a year is as good as for ever.",
        remedy: "Choose a lifetime between 5 minutes and 24 hours; 365 days are the most.",
    }
    LIFETIMES_INVERTED = "US312" "lifetimes-inverted" Warning {
        what: "The ESP lifetime is longer than the IKE lifetime.",
        why: "The keys that carry the traffic would outlive the keys that protect their exchange.",
        remedy: "Choose an ESP lifetime shorter than the IKE lifetime; 1h and 8h are usual.",
    }
    LIVENESS_OUT_OF_RANGE = "US313" "liveness-out-of-range" Error {
        what: "A peer-liveness interval that is too short or too long.",
        why: "Under 5 seconds a short loss takes the tunnel down; over an hour a dead peer goes unnoticed.",
        remedy: "Choose between 5s and 1h, or `off`.",
    }
    TWO_OFFERS = "US314" "two-offers" Error {
        what: "A tunnel has both a strength and proposals of its own for the same SA.",
        why: "One of the two would win silently.",
        remedy: "Keep `strength`, or write both `ike` and `esp` proposals yourself.",
    }
    NO_LIVENESS_BUT_AT_ONCE = "US315" "unwatched-tunnel" Warning {
        what: "A tunnel that is to stay up has its peer-liveness check switched off.",
        why: "When the peer restarts, the gateway goes on sending into an SA that nobody holds any more, until the lifetime ends.",
        remedy: "Remove `liveness = \"off\"`, or set an interval.",
    }
    PATH_MTU_OUT_OF_RANGE = "US316" "path-mtu-out-of-range" Error {
        what: "A path MTU under 576 or over 9,000 bytes.",
        why: "No path of the internet takes less, and none takes more.",
        remedy: "Write the size in bytes that the path takes, for example 1500, or 1492 over PPPoE.",
    }
    LINK_UNFIT = "US317" "link-unfit" Error {
        what: "A link prefix that holds no two addresses, or that a network of the sites holds too.",
        why: "Each of the two tunnel interfaces needs an address of its own.",
        remedy: "Write a small free prefix: `link = \"10.255.0.0/31\"`.",
    }
    LINK_NEEDS_ROUTES = "US318" "link-needs-routes" Error {
        what: "Addresses for tunnel interfaces where an end has no such interface.",
        why: "The selectors of a policy-based end do not carry them.",
        remedy: "Make both ends route-based with `style`, or say `carrier = \"gre\"`; or remove `link`.",
    }
    UNKNOWN_SERVICE = "US319" "unknown-service" Error {
        what: "A service with a name that is not known.",
        why: "The filter needs a protocol and ports.",
        remedy: "Write a known name, or a protocol and ports such as `tcp/8443`.",
    }
    NOT_AN_END = "US320" "not-an-end" Error {
        what: "A tunnel says something of a site that is neither of its ends.",
        why: "It would hold for nobody.",
        remedy: "Name one of the two sites that the tunnel joins.",
    }
    ONE_WAY_TWICE = "US321" "one-way-twice" Error {
        what: "`one-way` beside services by site.",
        why: "Services by site say already who may open connections; one of the two would win silently.",
        remedy: "Leave out `one-way`: a site that `services` does not name may open nothing.",
    }
    OPENER_IS_SILENT = "US322" "opener-is-silent" Error {
        what: "The tunnel waits for traffic of a site whose hosts may open no connection.",
        why: "The filter drops every first packet, so the tunnel never comes up, and the other site's hosts wait for it.",
        remedy: "Let the site whose hosts may open connections open the tunnel with `initiator`, or open it `at-once`.",
    }
    APPEARANCE_UNFIT = "US323" "appearance-unfit" Error {
        what: "A network appears as a prefix of another length or family, as one that its site uses itself, or as one address that others are to reach.",
        why: "One to one, each address needs a place of its own in the other prefix; behind one address (RFC 3022 section 2.2) nobody can be reached first.",
        remedy: "Write a free prefix of the same length; or a free address, and let the hosts of that site alone open connections.",
    }
    REPLAY_WINDOW_OUT_OF_RANGE = "US324" "replay-window-out-of-range" Error {
        what: "An anti-replay window under 32 or over 2,040 packets.",
        why: "RFC 4303 section 3.4.3 demands 32; not every kernel takes more than 2,040.",
        remedy: "Choose between 32 and 2040; 128 is enough for most paths.",
    }
    COMPRESSION = "US325" "compression" Error {
        what: "Compression before encryption is asked for.",
        why: "The size of a compressed packet tells of its content to whoever can choose a part of it; most traffic is compressed already.",
        remedy: "Remove `compression`; compress in the application, where it pays.",
    }
    EXTENDED_SEQUENCE_NEEDS_IKEV2 = "US326" "extended-sequence-needs-ikev2" Error {
        what: "Extended sequence numbers are asked of a platform that does not have them in IKEv1.",
        why: "IKEv1 takes them only by an addition (RFC 4304) that few gateways speak.",
        remedy: "Say `version = \"ikev2\"`, or remove `extended-sequence-numbers`; a shorter `esp-lifetime` helps too.",
    }
    CARRIER_NEEDS_ADDRESSES = "US327" "carrier-needs-addresses" Error {
        what: "GRE, or the gateways' own traffic, where an end has no fixed address of its own or a NAT device stands on the way.",
        why: "Both go from one address to another, and ESP in transport mode keeps them: whoever translates one on the way breaks the tunnel.",
        remedy: "Give both gateways fixed addresses without translation; or leave `carrier` out and say `style = \"route-based\"`, or carry networks.",
    }
    ROUTING_UNFIT = "US328" "routing-unfit" Error {
        what: "A routing protocol over a tunnel that cannot carry it.",
        why: "A session needs a tunnel interface with an address at each end, systems with numbers, and networks of one family; without one of them it never comes up, or says less than the tunnel carries.",
        remedy: "Give the tunnel what the message names, or leave `routing` out.",
    }
    NOTHING_BEHIND_HOSTS = "US329" "nothing-behind-hosts" Error {
        what: "Something for networks is said of a tunnel that carries what the gateways themselves send, and nothing else.",
        why: "In transport mode there is no tunnel interface, no route into one, and nothing to translate.",
        remedy: "Leave it out; or carry networks, and let the gateways be among them.",
    }
    HUBS_UNFIT = "US330" "hubs-unfit" Error {
        what: "A star without a hub or with more than two, a mesh with hubs, or a second hub where routes do not steer.",
        why: "Whoever has two tunnels to the same network needs to know which one is to be taken; selectors cannot say that.",
        remedy: "Name one hub, or two; with two, say `style = \"route-based\"` at the members and at the hubs.",
    }
    NOT_A_PAIR_OF_GROUP = "US331" "not-a-pair-of-group" Error {
        what: "An exception is about two sites that its group does not join, or about a pair that has one already.",
        why: "It would change nothing, and whoever wrote it would rely on it.",
        remedy: "Name two sites that the group joins; a star joins each member with each hub.",
    }
    POLICY_OF_ONE = "US332" "policy-of-one" Error {
        what: "The policy of a group says what only a single tunnel can say.",
        why: "Ends, secret, link and roles differ from pair to pair.",
        remedy: "A group has `members`, `master`, `links` and `initiator` for that.",
    }
    DERIVED_COLLISION = "US333" "derived-collision" Error {
        what: "Two tunnels have the same derived name, number, or addresses.",
        why: "Each follows from the names of the two sites alone, so that other pairs do not change it; two in very many can coincide.",
        remedy: "Give one of the sites another name, or give the pair a `link` of its own with `except`.",
    }
    TRANSIT_UNFIT = "US334" "transit-unfit" Error {
        what: "What lies beyond a hub is to be reached through it, and there is no hub, or routes do not steer at the site that is to reach it.",
        why: "Selectors that name what lies beyond the hub would also take what that site's own networks send each other. The hub's selectors would not.",
        remedy: "Say `style = \"route-based\"` at that site, or leave out `transit` of the group, or `everything` of the pair.",
    }
    TOO_MANY_PAIRS = "US335" "too-many-pairs" Error {
        what: "A tunnel carries more pairs of networks than any gateway is asked to.",
        why: "Each pair is a Child SA of its own or several rules of filter and translation, at both ends, and most hold for nothing that is sent.",
        remedy: "Name wider networks that hold several, or only the pairs that are needed with `carries`.",
    }
    MODE_UNFIT = "US336" "mode-unfit" Error {
        what: "The mode of ESP does not fit what the tunnel carries.",
        why: "In transport mode a packet keeps its addresses, and those must be the gateways' own (RFC 4301 section 4.1).",
        remedy: "Leave `mode` out; say `carrier = \"gre\"`, which makes them so; or say `carries = \"gateways\"` where nothing behind the gateways is meant.",
    }
    LONG_LIFETIME = "US337" "long-lifetime" Warning {
        what: "An SA lives longer than a day.",
        why: "Whoever finds its keys reads all that was sent with them (RFC 4301 section 4.4.2.1 asks for an end by time or by bytes); some gateways refuse it.",
        remedy: "Take `8h` for the IKE SA and `1h` for ESP, if the other end does not insist: lifetimes are not negotiated in IKEv2.",
    }
    TOO_MANY_TO_DROP = "US338" "too-many-to-drop" Warning {
        what: "The pairs of networks that a tunnel does not carry are too many to be dropped one by one.",
        why: "Each takes rules of its own at both gateways; without them the packets go where other routes lead, to the internet in clear where nothing else has them.",
        remedy: "Carry them, drop them in a filter of your own, or say `not-carried = \"left-alone\"` where another path has them.",
    }
    LIMIT_UNFIT = "US339" "limit-unfit" Error {
        what: "The protocol or ports to which the selectors are limited do not fit the rest of the tunnel.",
        why: "Selectors have one IP protocol, and ports where that has some (RFC 7296 section 3.13.1); what does not match them finds no SA, and is dropped.",
        remedy: "Limit the networks of a tunnel to one protocol and one port at either site, or leave `limited-to` out and say `services`.",
    }
    HOSTS_ON_ONE_LINK = "US340" "hosts-on-one-link" Warning {
        what: "Two hosts with IPv6 addresses of one link protect all that they send each other.",
        why: "They find each other with packets between the same two addresses (RFC 4861). The filter lets those pass, but the kernel holds them back at an end that traps packets, or that has SAs which the other one lost.",
        remedy: "Take IPv4 addresses there, or protect networks of one address each; with a short `liveness` the two at least find each other again.",
    }
    TOO_SMALL_FOR_IPV6 = "US341" "too-small-for-ipv6" Error {
        what: "A tunnel interface is left with less than IPv6 needs.",
        why: "Every link of IPv6 takes 1,280 bytes (RFC 8200 section 5); the kernel gives an interface with less no IPv6 address and no IPv6 route.",
        remedy: "Give the path as it is with `path-mtu`, let the selectors steer (`style = \"policy-based\"`) instead of an interface, or carry IPv4 alone.",
    }
    UNTRANSLATED = "US342" "untranslated" Warning {
        what: "Private addresses go to the internet through a site whose gateway does not translate them.",
        why: "The internet has no way back to a private address (RFC 1918): nothing is answered, unless another router behind the gateway translates.",
        remedy: "Say `shares-internet = true` at that site, if its gateway translates what leaves for the internet.",
    }
    OTHER_FAMILY = "US343" "other-family" Warning {
        what: "A site whose selectors steer carries networks of another family than its gateway's address.",
        why: "A packet is routed before a selector takes it (RFC 4301 section 5.1 leaves that to the host): without a route to the other network, a default one at least, the gateway answers that the network is unreachable.",
        remedy: "Give the gateway a default route of that family; or say `style = \"route-based\"`, with which its routes are written.",
    }
    NOT_BEHIND_NAT = "US344" "not-behind-nat" Warning {
        what: "Two gateways agree on a cipher with which a platform has no ESP in UDP, and one of them has no fixed address.",
        why: "Where a NAT device stands before it, ESP travels in UDP (RFC 3948): then there are SAs at both ends, and nothing that arrives.",
        remedy: "Put another cipher than CCM before it, such as GCM.",
    }
}
