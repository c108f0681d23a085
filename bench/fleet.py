#!/usr/bin/env python3
"""Writes a fleet of N tunnels: a description, an inventory and a master secret.

fleet.py N FOLDER: N pairs of two gateways each (2 N trees of files), no two alike. Made-up data: documentation
addresses (RFC 3849), and private ones behind them.
"""
import hashlib
import ipaddress
import os
import sys


def address(number):
    """An outside address of its own within 2001:db8::/32."""
    return str(ipaddress.IPv6Address((0x20010DB8 << 96) + (number << 64) + 1))


def network(number):
    """A network of its own within fd41::/16."""
    return str(ipaddress.IPv6Network(((0xFD41 << 112) + (number << 64), 64)))


def main():
    count, folder = int(sys.argv[1]), sys.argv[2]
    os.makedirs(folder, exist_ok=True)
    with open(os.path.join(folder, "orchards.csv"), "w") as file:
        file.write("name,platform,gateway.address,networks,peers\n")
        for number in range(count):
            file.write(f"packhouse-{number},strongswan,{address(2 * number)},{network(2 * number)},coldstore-{number}\n")
            file.write(f"coldstore-{number},libreswan,{address(2 * number + 1)},{network(2 * number + 1)},\n")
    with open(os.path.join(folder, "orchards.span.toml"), "w") as file:
        file.write(
            'unified-span = 1\n\n'
            '[inventory.orchards]\nfile = "orchards.csv"\n'
            'all = { gateway = { outside = "wan0", inside = "lan0" }, shares-internet = true }\n\n'
            '[group.harvest]\nshape = "listed"\nmembers = ["orchards"]\nmaster = "orchards.master"\n'
            'policy = { strength = "strong" }\n'
        )
    master = os.path.join(folder, "orchards.master")
    with open(os.open(master, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        file.write(hashlib.sha256(b"made up for the benchmark").hexdigest() + "\n")


main()
