#!/usr/bin/env python3
"""What people do instead: the same files from the same inventory with Jinja2 templates, and no check at all.

render.py FOLDER OUT: FOLDER as fleet.py writes it; with `-` for OUT it renders and writes nothing. The templates know this one fleet: one policy, two platforms.
"""
import csv
import hashlib
import hmac
import ipaddress
import os
import sys

from jinja2 import Environment, FileSystemLoader

POLICY = {
    "ike_life": 28800,
    "esp_life": 3600,
    "margin": 360,
    "liveness": 30,
    "replay_window": 128,
    "strongswan_ike": ["aes256gcm16-prfsha384-ecp384", "aes256-sha384-prfsha384-ecp384", "aes256-sha512-prfsha512-modp4096"],
    "strongswan_esp": ["aes256gcm16-ecp384", "chacha20poly1305-ecp384", "aes256-sha512-ecp384"],
    "libreswan_ike": ["aes_gcm256-sha2_384;dh20", "aes256-sha2_384;dh20", "aes256-sha2_512;modp4096"],
    "libreswan_esp": ["aes_gcm256;dh20", "chacha20_poly1305;dh20", "aes256-sha2_512;dh20"],
}


def secret(master, one, other):
    key = hmac.new(bytes(32), master, hashlib.sha256).digest()
    first, second = sorted([one, other])
    context = f"unified-span pair 1\0{first}\0{second}\0001".encode()
    return hmac.new(key, context + b"\x01", hashlib.sha256).hexdigest().encode().hex()


def write(path, text, mode):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode), "w") as file:
        file.write(text)


def main():
    folder, out = sys.argv[1:]
    here = os.path.dirname(os.path.abspath(__file__))
    environment = Environment(
        loader=FileSystemLoader(os.path.join(here, "templates")), trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True
    )
    with open(os.path.join(folder, "orchards.master"), "rb") as file:
        master = file.read().strip()
    with open(os.path.join(folder, "orchards.csv"), newline="") as file:
        rows = list(csv.DictReader(file))
    sites = {}
    for row in rows:
        networks = [{"name": "lan", "prefix": row["networks"]}]
        sites[row["name"]] = {"name": row["name"], "platform": row["platform"], "address": row["gateway.address"], "networks": networks}
    for row in rows:
        for peer in row["peers"].split():
            first, second = sites[peer], sites[row["name"]]
            name = f"{first['name']}--{second['name']}"
            ids = sorted([first["address"], second["address"]], key=ipaddress.ip_address)
            shared = secret(master, first["name"], second["name"])
            for me, other in ((first, second), (second, first)):
                values = {
                    "t": name, "me": me, "peer": other, "first": first, "second": second,
                    "first_id": ids[0], "second_id": ids[1], "secret": shared, "policy": POLICY,
                }
                etc = os.path.join(out, me["name"], "etc")
                if me["platform"] == "strongswan":
                    files = [(f"swanctl/conf.d/{name}.conf", "strongswan.conf.j2", 0o644),
                             (f"swanctl/conf.d/{name}.secrets.conf", "strongswan.secrets.j2", 0o600)]
                else:
                    files = [(f"ipsec.d/{name}.conf", "libreswan.conf.j2", 0o644), (f"ipsec.d/{name}.secrets", "libreswan.secrets.j2", 0o600)]
                files.append((f"nftables.d/uspan-{name}.nft", "nftables.j2", 0o644))
                for path, template, mode in files:
                    text = environment.get_template(template).render(values)
                    if out != "-":
                        write(os.path.join(etc, path), text, mode)


main()
