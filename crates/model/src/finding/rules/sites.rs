//! US2xx: sites, addresses, networks.

chapter! {
    BAD_ADDRESS = "US201" "bad-address" Error {
        what: "Not an IPv4 or IPv6 address.",
        why: "Some daemons take a mistyped address for a host name and wait for a name server.",
        remedy: "Write the address alone, without a prefix length: `198.51.100.20`.",
    }
    BAD_PREFIX = "US202" "bad-prefix" Error {
        what: "Not a network prefix.",
        why: "Daemons accept some malformed prefixes without a word and then match nothing.",
        remedy: "Write network and length: `10.41.0.0/22`.",
    }
    HOST_BITS = "US203" "host-bits" Error {
        what: "A prefix in which bits behind the prefix length are set.",
        why: "Often it is the router's own address with the network's length. Platforms disagree on what it means: one masks it, another refuses it, a third matches nothing.",
        remedy: "Write the network, not an address in it.",
    }
    BAD_INTERFACE = "US204" "bad-interface" Error {
        what: "Not a name that a network interface can have.",
        why: "A filter rule for an interface that cannot exist never matches.",
        remedy: "Use 1 to 15 letters, digits, `.`, `_`, `-` or `@`, as `ip link` prints it; the first one a letter, a digit or `_`.",
    }
    SAME_INTERFACE = "US205" "same-interface" Error {
        what: "The outside interface is also an inside interface.",
        why: "Filter and translation rules tell the two sides apart by interface.",
        remedy: "Name the interface towards the internet as `outside` and the ones towards the networks as `inside`.",
    }
    SAME_NETWORK = "US206" "same-network" Error {
        what: "Two networks of one site have the same prefix.",
        why: "The same selector would be written twice under two names.",
        remedy: "Keep one of the two.",
    }
    NESTED_NETWORKS = "US207" "nested-networks" Error {
        what: "One network of a site lies inside another one.",
        why: "Two Child SAs would fit the same packet; which one carries it differs between platforms.",
        remedy: "Keep the wider network, or split it so that the two do not overlap.",
    }
    OVERLAPPING_SITES = "US208" "overlapping-sites" Error {
        what: "Networks on the two sides of a tunnel overlap.",
        why: "A gateway cannot tell whether an address is here or there; traffic for it stays local.",
        remedy: "Let them appear as other prefixes with `appears-as`, renumber one side, or leave that network out of the tunnel with `carries`.",
    }
    GATEWAY_IN_SELECTOR = "US209" "gateway-in-selector" Error {
        what: "A gateway's own outside address lies inside a protected network.",
        why: "The IKE and ESP packets themselves would match the selector and be sent into the tunnel that they carry.",
        remedy: "Protect only networks that do not hold a gateway's outside address.",
    }
    UNUSABLE_ADDRESS = "US210" "unusable-address" Error {
        what: "An address that no gateway can have: unspecified, loopback, multicast, link-local or broadcast.",
        why: "No packet can be sent to it across the internet.",
        remedy: "Write the gateway's own address on its outside interface.",
    }
    DEFAULT_NETWORK = "US211" "default-network" Error {
        what: "A network that is the whole address space.",
        why: "What stands behind a gateway is smaller than what is reached through it.",
        remedy: "Name the networks that stand behind the gateway; where the other site is to reach the internet through it, say `everything` in `carries`.",
    }
    SAME_GATEWAY = "US212" "same-gateway" Error {
        what: "Two sites have the same gateway address.",
        why: "A tunnel needs two gateways; the second one would never see a packet.",
        remedy: "Correct the address of one of them.",
    }
    PRIVATE_GATEWAY = "US213" "private-gateway" Warning {
        what: "A gateway's outside address is a private or shared one.",
        why: "The internet does not route it; the peer can reach it only if both stand in the same private network.",
        remedy: "Write the address under which the peer reaches the gateway.",
    }
    UNUSED_SITE = "US214" "unused-site" Warning {
        what: "A site that no tunnel joins.",
        why: "Nothing is written for it; perhaps a tunnel is missing or a name is mistyped.",
        remedy: "Add a tunnel or remove the site.",
    }
    MIXED_FAMILIES = "US215" "mixed-families" Error {
        what: "One gateway has an IPv4 address, the other an IPv6 address.",
        why: "The two cannot exchange packets.",
        remedy: "Give both gateways an address of the same family.",
    }
    UNUSABLE_NETWORK = "US217" "unusable-network" Error {
        what: "A prefix that cannot stand behind a gateway: loopback, multicast or link-local.",
        why: "Such addresses are not forwarded.",
        remedy: "Write the network as the hosts behind the gateway use it.",
    }
    NO_NETWORKS = "US218" "no-networks" Error {
        what: "A site without a network.",
        why: "There would be nothing that may cross.",
        remedy: "Leave `networks` out at a host; or name at least one: `networks = { office = \"10.41.0.0/22\" }`.",
    }
    BOTH_DYNAMIC = "US219" "both-dynamic" Error {
        what: "Neither end of a tunnel has an address or a name at which the other finds it.",
        why: "Nobody could send the first packet.",
        remedy: "Give one of them a fixed address, or a DNS name that follows it.",
    }
    DYNAMIC_MUST_OPEN = "US220" "dynamic-must-open" Error {
        what: "A tunnel to a gateway without a fixed address is to be opened by the other end.",
        why: "The other end does not know where to send the first packet.",
        remedy: "Let the gateway without a fixed address open it: `initiator` with its name.",
    }
    ANSWERS_BEHIND_NAT = "US221" "answers-behind-nat" Warning {
        what: "A gateway behind a NAT device is to answer.",
        why: "The device lets nothing in by itself.",
        remedy: "Let the device forward UDP 500 and UDP 4500 to the gateway, or let the gateway behind it open the tunnel with `initiator`.",
    }
    NO_TRAVERSAL_BEHIND_NAT = "US222" "no-traversal-behind-nat" Error {
        what: "NAT traversal is off although an end stands behind a NAT device.",
        why: "The device cannot translate ESP; the negotiation would succeed and nothing would cross.",
        remedy: "Say `nat-traversal = \"automatic\"`.",
    }
    ADDRESS_NOT_YET_KNOWN = "US223" "address-not-yet-known" Error {
        what: "The address of a gateway is still to be assigned.",
        why: "Its peer cannot be told where to find it.",
        remedy: "Give it as soon as it is known: `--given SITE.address=ADDRESS`, or a file with `--given-from`.",
    }
    GIVEN_IN_VAIN = "US224" "given-in-vain" Error {
        what: "An address is given for a site that does not wait for one.",
        why: "Perhaps another site was meant; one of two addresses would win silently.",
        remedy: "Correct the name of the site, or say `address = \"assigned\"` in the description.",
    }
    BAD_AS_NUMBER = "US225" "bad-as-number" Error {
        what: "Not the number of an autonomous system.",
        why: "0, 23456, 65535 and 4294967295 are reserved (IANA AS numbers); a router refuses them.",
        remedy: "Take a private one, between 64512 and 65534 (RFC 6996).",
    }
    FORGOTTEN_BY_NAT = "US226" "forgotten-by-nat" Error {
        what: "A gateway behind a NAT device has nothing that keeps the device's mapping.",
        why: "The device forgets it after a minute or two without packets (RFC 4787 section 4.3), and what the peer sends then does not arrive: new keys, and whatever its hosts open. Not every daemon sends keepalives (RFC 3948 section 4).",
        remedy: "Say `liveness = \"30s\"`, whose questions keep the mapping; or let the device forward UDP 500 and 4500, and the other site open the tunnel, too.",
    }
    MAY_BE_FORGOTTEN = "US227" "may-be-forgotten" Warning {
        what: "A gateway without a fixed address has nothing that would keep the mapping of a NAT device.",
        why: "Where such a device stands before it, it forgets the mapping after a minute or two without packets (RFC 4787 section 4.3), and what the peer sends then does not arrive.",
        remedy: "Say `liveness = \"30s\"`, whose questions keep the mapping.",
    }
}
