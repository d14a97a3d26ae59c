"""Makes large networks: instances in subnets of two zones, groups by tags, filters of many rules."""

import random


def large_network(instances: int, seed: int = 1) -> str:
    """A network file with that many instances, as YAML text."""
    chance = random.Random(seed)
    subnets = max(1, instances // 100)
    lines = [
        "kiboko: 1",
        "networks: {north: {cidrs: [10.0.0.0/8]}}",
        "zones: {east: {}, west: {}}",
        "defaults: {between_zones: allow}",
        "subnets:",
    ]
    for i in range(subnets):
        zone = "east" if i % 2 else "west"
        lines.append(f"  block-{i}: {{network: north, cidr: 10.{i >> 8}.{i & 255}.0/24, zone: {zone}}}")
    lines.append("groups:")
    lines += [f"  role-{g}: {{where: {{role: r{g}}}}}" for g in range(20)]
    lines += ["  odd: {where: {side: odd}}", "  even: {where: {side: even}}", "filters:"]
    for f in range(10):
        lines += [f"  guard-{f}:", "    layer: instance", "    decide: any", "    stateful: true", "    inbound:"]
        for r in range(20):
            peer, port = f"role-{chance.randrange(20)}", chance.choice([443, chance.randrange(1, 9999)])
            lines.append(f"      - {{id: rule-{r}, action: allow, from: {peer}, service: tcp/{port}}}")
    lines.append("instances:")
    for i in range(instances):
        s, address = i % subnets, f"10.{i % subnets >> 8}.{i % subnets & 255}.{i // subnets + 1}"
        lines += [
            f"  host-{i}:",
            "    state: running",
            f"    tags: {{role: r{i % 20}, side: {'odd' if i % 2 else 'even'}}}",
            "    interfaces:",
            f"      - {{name: eth0, subnet: block-{s}, addresses: [{address}], filters: [guard-{i % 10}]}}",
            f"    listens: [ssh, {{service: https, address: {address}}}]",
        ]
    return "\n".join(lines) + "\n"
