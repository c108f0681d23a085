//! US5xx: who is who, and secrets.

chapter! {
    BAD_DNS_NAME = "US501" "bad-dns-name" Error {
        what: "Not a DNS name.",
        why: "The daemons compare identities byte by byte and some guess the kind of identity from its form; a malformed name is sent as another kind than the peer expects.",
        remedy: "Write a host name such as `packhouse.example.net`; for any other text use `free`.",
    }
    BAD_MAIL_NAME = "US502" "bad-mail-name" Error {
        what: "Not a mail-like name.",
        why: "It must have the form of a mail address to be sent as one (RFC 7296 section 3.5, ID_RFC822_ADDR).",
        remedy: "Write it as `vpn@example.net`; for any other text use `free`.",
    }
    BAD_FREE_NAME = "US503" "bad-free-name" Error {
        what: "A free name that not every platform can carry.",
        why: "Free names (ID_KEY_ID) stand unquoted in some dialects, where a space or a bracket would end them and an equals sign makes them a certificate subject.",
        remedy: "Use letters, digits and `.`, `_`, `-`, `+`, `/`, `:` only, at most 64 characters.",
    }
    SAME_IDENTITY = "US504" "same-identity" Error {
        what: "Two sites have the same identity.",
        why: "Secrets and connections are found by identity; two peers with one name are one peer.",
        remedy: "Give each site an identity of its own.",
    }
    SEVERAL_IDENTITIES = "US505" "several-identities" Error {
        what: "An identity of more than one kind, or of none.",
        why: "A gateway sends exactly one identity, and the peer must expect that one.",
        remedy: "Keep one of `address`, `name`, `mail`, `free`, `subject`.",
    }
    FOREIGN_ADDRESS_IDENTITY = "US506" "foreign-address-identity" Warning {
        what: "The identity is an address, but not the gateway's own.",
        why: "Behind address translation people write the inside address on one end and the outside address on the other; then the peer refuses the identity.",
        remedy: "Leave the identity out to use the gateway's address, or use a name.",
    }
    BAD_SUBJECT = "US507" "bad-subject" Error {
        what: "A subject that not every platform can carry.",
        why: "The daemons write subjects with different separators, and read some characters and attributes in different ways.",
        remedy: "Write the parts in the order of the certificate, `C=US, O=Alder Creek Orchards, CN=packhouse`: each with one of `C`, `ST`, `L`, `O`, `OU`, `CN`, `DC`, and letters, digits, spaces and `(`, `)`, `.`, `-`, `_`; or use a subject alternative name as identity.",
    }
    NO_SECRET_FILE = "US511" "no-secret-file" Error {
        what: "The file with the shared secret does not exist.",
        why: "Both ends need the same bytes; there is nothing to write.",
        remedy: "Make one with `uspan secret FILE`, or correct the path; it is relative to the description.",
    }
    UNREADABLE_SECRET = "US512" "unreadable-secret" Error {
        what: "The file with the shared secret cannot be read.",
        why: "Both ends need the same bytes; there is nothing to write.",
        remedy: "Correct the path or the permissions.",
    }
    EMPTY_SECRET = "US513" "empty-secret" Error {
        what: "The file with the shared secret is empty.",
        why: "An empty secret lets anybody in.",
        remedy: "Make one with `uspan secret FILE`.",
    }
    WEAK_SECRET = "US514" "weak-secret" Error {
        what: "The shared secret could be guessed, by an estimate of how long an attacker would try.",
        why: "Whoever pretends to be the responder can try secrets offline against what the initiator sends (RFC 7296 section 2.15).",
        remedy: "Make a strong one with `uspan secret FILE` and give it to the partner by another way than this file. If gateways have this one that cannot change it today, say so: `secret = { file = …, in-use = \"why\" }`.",
    }
    SHARED_SECRET_FILE = "US515" "shared-secret-file" Error {
        what: "Two tunnels use the same secret file.",
        why: "Whoever holds the secret of one tunnel could pose as either end of the other.",
        remedy: "Make a secret of its own for each tunnel.",
    }
    SAME_SECRET = "US516" "same-secret" Error {
        what: "Two secret files hold the same bytes.",
        why: "Whoever holds the secret of one tunnel could pose as either end of the other.",
        remedy: "Make a secret of its own for each tunnel.",
    }
    LOOKS_ENCODED = "US517" "looks-encoded" Warning {
        what: "The secret begins like an encoded one (`0x`, `0s` or `0t`).",
        why: "Some daemons decode such a text, others take it literally. This program takes the characters literally on both ends; a partner's device may not.",
        remedy: "If the partner means the decoded bytes, put those into the file; otherwise choose a secret that begins differently.",
    }
    SECRET_OF_SEVERAL_LINES = "US518" "secret-of-several-lines" Error {
        what: "The file with the shared secret has more than one line.",
        why: "It is not clear whether the line ends belong to the secret; editors add and change them.",
        remedy: "Put the secret on a single line.",
    }
    EXPOSED_SECRET = "US519" "exposed-secret" Warning {
        what: "The file with the shared secret can be read by others.",
        why: "A secret that everyone on the machine can read is none.",
        remedy: "Run `chmod 600` on the file.",
    }
    MODEST_SECRET = "US520" "modest-secret" Warning {
        what: "The shared secret is weaker than the ciphers it guards, by an estimate.",
        why: "The tunnel is as strong as its weakest part; the secret should hold at least 112 bits. Of a secret that a machine drew from fewer letters than it looks the estimate is too low.",
        remedy: "Make a strong one with `uspan secret FILE`.",
    }
    NUL_IN_SECRET = "US521" "nul-in-secret" Error {
        what: "The secret holds a NUL byte.",
        why: "Some daemons end a secret at the first NUL; the ends would hold different secrets.",
        remedy: "Make a printable one with `uspan secret FILE`.",
    }
    LONG_SECRET = "US522" "long-secret" Error {
        what: "The secret is longer than 512 bytes.",
        why: "Daemons cut or refuse very long secrets; perhaps the wrong file is named.",
        remedy: "Name the file with the secret, or make one with `uspan secret FILE`.",
    }
    IDENTITY_NEEDED = "US523" "identity-needed" Warning {
        what: "A gateway without a fixed address names itself by an address.",
        why: "Its peer recognises it by its identity alone, to which any will do; an address that is not its own misleads whoever looks for it.",
        remedy: "Give it a name: `identity = { name = \"gate.example.net\" }`.",
    }
    ADDRESS_IDENTITY_BEHIND_NAT = "US524" "address-identity-behind-nat" Warning {
        what: "A gateway behind a NAT device names itself by an address.",
        why: "Gateways that are configured by hand take the address of their interface, and the peer expects that of the NAT device: the most frequent reason why such a tunnel does not authenticate.",
        remedy: "Give it a name: `identity = { name = \"gate.example.net\" }`.",
    }
    KEY_NEEDED = "US525" "key-needed" Error {
        what: "A tunnel whose gateways prove themselves by keys joins a site without one.",
        why: "It could neither prove who it is nor be recognised.",
        remedy: "Make a pair with `uspan secret --pair keys/NAME.key`, and name both files in the site's `keys`; for certificates name `certificate`, `issuer` and `private`.",
    }
    NO_KEY_FILE = "US526" "no-key-file" Error {
        what: "A file of a site's `keys` that is not there, cannot be read, or holds no key that every platform takes.",
        why: "The peers would have nothing to recognise the gateway by.",
        remedy: "Correct the path, or make a pair with `uspan secret --pair`: keys on the curves P-256 and P-384, as PEM; certificates may have RSA keys of at least 2048 bits too.",
    }
    KEYS_DIFFER = "US527" "keys-differ" Error {
        what: "The private key of a site does not belong to its public key.",
        why: "Its peers would refuse every signature.",
        remedy: "Name the two files of one pair.",
    }
    SAME_KEY = "US528" "same-key" Error {
        what: "Two sites have the same key.",
        why: "Each could pose as the other.",
        remedy: "Make a pair of its own for each site.",
    }
    SECRET_UNUSED = "US529" "secret-unused" Error {
        what: "A shared secret is named where the gateways prove themselves by keys.",
        why: "One of the two would win silently.",
        remedy: "Remove `secret`, or `authentication`.",
    }
    KEYS_NEED_IKEV2 = "US530" "keys-need-ikev2" Error {
        what: "Public keys or certificates are asked of IKEv1, where a platform does not have them.",
        why: "Signatures of RFC 7427 belong to IKEv2; those of IKEv1 (RFC 2409 section 5.1, RFC 4754) are others, and not every platform has them for every kind of key.",
        remedy: "Say `version = \"ikev2\"`, or use a shared secret.",
    }
    IDENTITY_NOT_CERTIFIED = "US531" "identity-not-certified" Error {
        what: "A site's certificate does not name its identity.",
        why: "The peer looks for the identity among the names of the certificate (RFC 4945 section 3.1, RFC 5280 section 4.2.1.6) and refuses a gateway that claims another one.",
        remedy: "Have the certificate issued with the identity as a subject alternative name, or use an identity that it names.",
    }
    NOT_ISSUED_BY = "US532" "not-issued-by" Error {
        what: "A certificate that its `issuer` did not issue.",
        why: "The peers believe what the issuer signs, and nothing else.",
        remedy: "Name the certificate of the authority that issued it: its subject is the issuer of the other one.",
    }
    CERTIFICATE_NOT_VALID = "US533" "certificate-not-valid" Error {
        what: "A certificate that has ended, or does not hold yet.",
        why: "The peers refuse it (RFC 5280 section 6.1.3).",
        remedy: "Have it renewed; or look at the clock of this machine.",
    }
    CERTIFICATE_ENDS = "US534" "certificate-ends" Warning {
        what: "A certificate that ends within 30 days.",
        why: "From then on the peers refuse the gateway at its next authentication: the tunnel that ran for a year does not come back.",
        remedy: "Have it renewed now, and build anew.",
    }
    LAB_CERTIFICATE = "US535" "lab-certificate" Error {
        what: "A certificate of the lab's own authority.",
        why: "It is for `uspan prove` alone: nobody answers for whom it names, and its authority's key is gone, so that it can be neither renewed nor revoked.",
        remedy: "Have certificates issued by your own authority, or prove with these and do not install them.",
    }
    SUBJECT_NEEDS_CERTIFICATE = "US536" "subject-needs-certificate" Error {
        what: "A gateway names itself by the subject of a certificate, and shows none, to a peer that finds bare keys by other identities.",
        why: "Nothing proves the subject, and not every daemon looks a bare key up by it.",
        remedy: "Say `authentication = \"certificates\"`, or give the site another kind of identity.",
    }
    WEAK_SECRET_IN_USE = "US537" "weak-secret-in-use" Warning {
        what: "The shared secret could be guessed, and stays because it is in use.",
        why: "Whoever pretends to be the responder can try secrets offline against what the initiator sends (RFC 7296 section 2.15); whoever finds it can pose as either gateway.",
        remedy: "Agree on a new one with `uspan secret FILE` and load it at both gateways within one lifetime of the IKE SA: IKEv2 asks for it when an IKE SA is opened, and not when keys are replaced (RFC 7296 section 1.3.2), so that what is up stays up.",
    }
}
