//! US7xx: what was written, read again; US8xx: files of a gateway.

chapter! {
    READ_BACK_DIFFERS = "US701" "read-back-differs" Error {
        what: "A configuration read back from its own text is not what was planned.",
        why: "Then the daemon would not do what the description says either; nothing is written.",
        remedy: "This is a defect of the program: please report it with the description, without secrets.",
    }
    IKE_PROPOSALS_DIFFER = "US702" "ike-proposals-differ" Error {
        what: "The two ends offer different IKE proposals or a different order.",
        why: "The negotiation fails with NO_PROPOSAL_CHOSEN, or chooses another proposal from each side.",
        remedy: "Make both ends offer the same proposals in the same order.",
    }
    ESP_PROPOSALS_DIFFER = "US703" "esp-proposals-differ" Error {
        what: "The two ends offer different ESP proposals or PFS groups.",
        why: "The IKE SA comes up without a Child SA, or the first rekey fails.",
        remedy: "Make both ends offer the same proposals in the same order, with the same PFS group.",
    }
    SELECTORS_NOT_MIRRORED = "US704" "selectors-not-mirrored" Error {
        what: "The traffic selectors of the two ends are not each other's mirror image.",
        why: "The peer answers TS_UNACCEPTABLE, or narrows to something nobody wants.",
        remedy: "What is local on one end must be remote on the other.",
    }
    IDENTITIES_NOT_CROSSED = "US705" "identities-not-crossed" Error {
        what: "An end expects another identity than its peer sends.",
        why: "The peer answers AUTHENTICATION_FAILED.",
        remedy: "The local identity of one end must be the remote identity of the other.",
    }
    SECRETS_DIFFER = "US706" "secrets-differ" Error {
        what: "The two ends hold different secrets, or one holds none.",
        why: "The peer answers AUTHENTICATION_FAILED.",
        remedy: "Put the same bytes on both ends.",
    }
    ADDRESSES_NOT_CROSSED = "US707" "addresses-not-crossed" Error {
        what: "An end sends to another address than its peer has.",
        why: "The packets never arrive, or come from an address that is not expected.",
        remedy: "The local address of one end must be the remote address of the other.",
    }
    EXEMPTION_INEXACT = "US708" "exemption-inexact" Error {
        what: "The NAT exemption does not cover exactly what may cross.",
        why: "What is missing leaves with the gateway's address and fits no selector; what is too much escapes a translation that was wanted.",
        remedy: "Exempt each pair of selectors, no more and no less.",
    }
    FILTER_INCOMPLETE = "US709" "filter-incomplete" Error {
        what: "The filter does not allow everything the tunnel needs.",
        why: "One direction works and the other does not, or IKE and ESP do not reach the gateway.",
        remedy: "Allow each pair in both directions, and UDP 500, UDP 4500 and ESP from the peer.",
    }
    NOBODY_STARTS = "US710" "nobody-starts" Warning {
        what: "Neither end opens the tunnel by itself.",
        why: "It stays down until someone opens it by hand.",
        remedy: "Let one end open the tunnel `at-once` or `on-traffic`.",
    }
    METHODS_DIFFER = "US711" "methods-differ" Error {
        what: "The two ends differ in IKE version, authentication method or mode.",
        why: "The negotiation fails at its first or second exchange.",
        remedy: "Make both ends alike.",
    }
    ROUTES_INCOMPLETE = "US712" "routes-incomplete" Error {
        what: "A route-based end does not route what the tunnel carries into it, with a black hole behind, or the two ends differ in that.",
        why: "What no route takes leaves on the default route, in clear; and it does so when the tunnel is down, if nothing stands behind.",
        remedy: "This is a defect of the program; please report it with the description.",
    }
    KEYS_NOT_CROSSED = "US713" "keys-not-crossed" Error {
        what: "An end has another public key for its peer than the peer signs with.",
        why: "The peer answers AUTHENTICATION_FAILED.",
        remedy: "Pin the public key of the pair that the other end uses.",
    }
    SESSIONS_NOT_CROSSED = "US714" "sessions-not-crossed" Error {
        what: "The two ends of a routing session do not fit: addresses, systems, or what one says and the other believes.",
        why: "The session does not come up, or networks are missing that the tunnel carries.",
        remedy: "What is own on one end must be the neighbour's on the other.",
    }
    WOULD_NOT_COME_UP = "US715" "would-not-come-up" Error {
        what: "A negotiation between the two ends, rehearsed from what was written, fails.",
        why: "The tunnel would not come up, or would break at its first rekey.",
        remedy: "This is a defect of the program; please report it with the description.",
    }
    DEVICE_SYNTAX = "US801" "device-syntax" Error {
        what: "A line of a gateway's file cannot be read.",
        why: "The daemon would refuse the file or leave the line out.",
        remedy: "Correct the line.",
    }
    DEVICE_UNKNOWN = "US802" "device-unknown" Warning {
        what: "A statement of a gateway's file that this program does not know.",
        why: "It is kept and named, never guessed at; where something hangs on it, no verdict is given.",
        remedy: "Check by hand what it does.",
    }
    DEVICE_VALUE = "US803" "device-value" Error {
        what: "A value in a gateway's file that the platform does not have.",
        why: "The daemon would refuse it or take something else.",
        remedy: "Correct the value.",
    }
    DEVICE_FILE_MISSING = "US804" "device-file-missing" Warning {
        what: "A file that a gateway's configuration needs is not among those that were read.",
        why: "It may stand on the gateway all the same, in a place or a database that was not copied; what is in it is not known.",
        remedy: "Copy it along with the others, if what is in it matters.",
    }
    SHEET_VALUE = "US805" "sheet-value" Error {
        what: "A value that was filled into a sheet cannot be understood.",
        why: "What is not understood is not guessed at; the description stays as it is.",
        remedy: "Write it as the sheet has it beside the blank.",
    }
    SHEET_FIELD = "US806" "sheet-field" Error {
        what: "A row of a filled-in sheet is for no field that the sheet has.",
        why: "Its value would be lost; often the sheet is of another tunnel or of the other end.",
        remedy: "Leave the first column as it was, and take the sheet of this tunnel and end.",
    }
    LINE_IN_PIECES = "US807" "line-in-pieces" Warning {
        what: "A line of a gateway's file is longer than what its real reader takes at once.",
        why: "The reader takes what is behind that for a line of its own: the end of a remark becomes a rule, a command or a secret.",
        remedy: "Break the line; look at what stands at its end, and at who wrote it.",
    }
    TOO_MUCH = "US808" "too-much" Error {
        what: "Files of a gateway take each other in so often, or name so many networks, that they stand for far more than they say.",
        why: "No daemon would do anything useful with them, and whoever reads them would be kept busy for ever.",
        remedy: "Look at what they include and take over; name fewer and wider networks.",
    }
    SHEET_LEFT_OUT = "US809" "sheet-left-out" Warning {
        what: "A value of a filled-in sheet has no effect, and is left out.",
        why: "What a partner's gateway shows in its form is not always what it does with it.",
        remedy: "Nothing, if the partner agrees; it is told so that nobody looks for it later.",
    }
    DEFINED_TWICE = "US810" "defined-twice" Warning {
        what: "A connection stands in two places of a gateway's files, or two connections carry the same: to the same peer, or where the daemon has SAs for one alone of them.",
        why: "The daemon merges them, or one shadows the other: often an old definition was left beside the new one.",
        remedy: "Take the old one out, for which `uspan adopt` writes a script; or narrow the selectors, where both are wanted.",
    }
}
