"""Networks as careful people write them: an audit finds nothing in any of them that it would be noise to tell."""

import unittest
from datetime import date

from kiboko.core.audit.audit import audit
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from tests.helpers import load

THREE_TIERS = """
kiboko: 1
networks: {shop: {cidrs: [10.20.0.0/16]}}
outside: {internet: {addresses: [0.0.0.0/0], zone: world}}
gateways: {door: {kind: internet, network: shop}}
route_tables: {out: [{to: 0.0.0.0/0, via: door}]}
zones: {z-web: {}, z-app: {}, z-data: {}, world: {}}
crossings:
  - {from: world, to: z-web, filter: world-web}
  - {from: z-web, to: z-app, filter: web-app}
  - {from: z-app, to: z-data, filter: app-data}
subnets:
  web-1: {network: shop, cidr: 10.20.1.0/24, zone: z-web, route_table: out}
  app-1: {network: shop, cidr: 10.20.2.0/24, zone: z-app, route_table: out}
  data-1: {network: shop, cidr: 10.20.3.0/24, zone: z-data}
filters:
  world-web: {layer: zone, decide: first, stateful: true, rules: [{action: allow, service: [http, https]}]}
  web-app: {layer: zone, decide: first, stateful: true, rules: [{action: allow, service: tcp/8080}]}
  app-data: {layer: zone, decide: first, stateful: true, rules: [{action: allow, service: postgresql}]}
  web: {layer: instance, decide: any, stateful: true, inbound: [{id: web, action: allow, service: [http, https]}]}
  app: {layer: instance, decide: any, stateful: true,
        inbound: [{id: from-web, action: allow, from: {carrying: web}, service: tcp/8080}]}
  data: {layer: instance, decide: any, stateful: true,
         inbound: [{id: from-app, action: allow, from: {carrying: app}, service: postgresql}]}
instances:
  w1: {interfaces: [{subnet: web-1, addresses: [10.20.1.5], public: 203.0.113.5, filters: [web]}], listens: [http, https]}
  w2: {interfaces: [{subnet: web-1, addresses: [10.20.1.6], public: 203.0.113.6, filters: [web]}], listens: [http, https]}
  a1: {interfaces: [{subnet: app-1, addresses: [10.20.2.5], filters: [app]}], listens: [tcp/8080]}
  d1: {interfaces: [{subnet: data-1, addresses: [10.20.3.5], filters: [data]}], listens: [postgresql]}
"""

STATELESS_EDGES = """
kiboko: 1
networks: {plant: {cidrs: [10.30.0.0/16]}}
outside: {internet: {addresses: [0.0.0.0/0]}}
gateways: {door: {kind: internet, network: plant}}
route_tables: {out: [{to: 0.0.0.0/0, via: door}]}
subnets:
  front: {network: plant, cidr: 10.30.1.0/24, route_table: out, filter: front-edge}
  back: {network: plant, cidr: 10.30.2.0/24, filter: back-edge}
filters:
  front-edge:
    layer: subnet
    decide: first
    stateful: false
    inbound:
      - {order: 10, action: drop, from: 198.51.100.0/24, note: "blocked since the attack in June"}
      - {order: 20, action: allow, service: https}
      - {order: 30, action: allow, from: back, service: tcp/32768-60999}
      - {order: 90, action: drop, log: true}
    outbound:
      - {order: 20, action: allow, service: tcp/32768-60999}
      - {order: 30, action: allow, to: back, service: mqtts}
      - {order: 90, action: drop, log: true}
  back-edge:
    layer: subnet
    decide: first
    stateful: false
    inbound:
      - {order: 10, action: allow, from: front, service: mqtts}
    outbound:
      - {order: 10, action: allow, to: front, service: tcp/32768-60999}
  server: {layer: instance, decide: any, stateful: true, inbound: [{id: web, action: allow, service: https}]}
  broker: {layer: instance, decide: any, stateful: true,
           inbound: [{id: from-front, action: allow, from: front, service: mqtts}]}
instances:
  s1: {interfaces: [{subnet: front, addresses: [10.30.1.5], public: 203.0.113.9, filters: [server]}], listens: [https]}
  b1: {interfaces: [{subnet: back, addresses: [10.30.2.5], filters: [broker]}], listens: [mqtts]}
"""

BRANCH = """
kiboko: 1
networks: {branch: {cidrs: [10.40.0.0/16]}, centre: {cidrs: [10.41.0.0/16]}}
outside:
  internet: {addresses: [0.0.0.0/0]}
  partner: {addresses: [192.0.2.0/24], filter: partner-edge}
gateways:
  out: {kind: nat, network: branch, address: 203.0.113.77}
  line: {kind: peering, networks: [branch, centre]}
  tunnel: {kind: tunnel, network: centre, outside: partner}
route_tables:
  branch-table: [{to: 0.0.0.0/0, via: out}, {to: 10.41.0.0/16, via: line}]
  centre-table: [{to: 10.40.0.0/16, via: line}, {to: 192.0.2.0/24, via: tunnel}]
subnets:
  desks: {network: branch, cidr: 10.40.1.0/24, route_table: branch-table, filter: desk-edge}
  servers: {network: centre, cidr: 10.41.1.0/24, route_table: centre-table, filter: server-edge}
groups: {staff: {where: {role: staff}}}
filters:
  desk-edge: {layer: subnet, decide: first, stateful: true, inbound: [], outbound: [{action: allow}]}
  server-edge:
    layer: subnet
    decide: first
    stateful: true
    inbound:
      - {order: 10, action: allow, from: [staff, partner], service: https}
      - {order: 20, action: allow, from: p1, service: ssh}
      - {order: 30, action: reject, from: branch, log: true}
    outbound: [{action: allow, to: partner, service: https}]
  partner-edge: {layer: subnet, decide: first, stateful: true, inbound: [{action: allow, service: https}],
                 outbound: [{action: allow, service: https}]}
instances:
  p1: {tags: {role: staff}, interfaces: [{subnet: desks, addresses: [10.40.1.5]}], listens: []}
  p2: {tags: {role: staff}, interfaces: [{subnet: desks, addresses: [10.40.1.6]}], listens: []}
  x1: {interfaces: [{subnet: servers, addresses: [10.41.1.5]}], listens: [https, ssh]}
"""

TAGGED_FLEET = """
kiboko: 1
networks: {farm: {cidrs: [10.50.0.0/16, "2001:db8:50::/48"]}}
outside: {internet: {addresses: [0.0.0.0/0, "::/0"]}, office: {addresses: [198.51.100.0/28]}}
gateways: {door: {kind: internet, network: farm}}
route_tables: {out: [{to: 0.0.0.0/0, via: door}, {to: "::/0", via: door}]}
subnets: {whole: {network: farm, cidr: [10.50.1.0/24, "2001:db8:50:1::/64"], route_table: out, filter: edge}}
groups: {r1: {where: {role: r1}}, r2: {where: {role: r2}}, r10: {where: {role: r10}}}
filters:
  edge: {layer: subnet, decide: first, stateful: true, outbound: [{action: allow}], inbound: [
    {order: 10, action: allow, from: office, service: ssh}, {order: 20, action: allow, service: https}]}
  one: {layer: instance, decide: any, stateful: true, inbound: [
    {id: web, action: allow, service: https}, {id: admin, action: allow, from: office, service: ssh},
    {id: peers, action: allow, from: [r1, r2, r10], service: amqp}]}
instances:
  m1: {tags: {role: r1}, interfaces: [{subnet: whole, addresses: [10.50.1.1, "2001:db8:50:1::1"], public: 203.0.113.1,
       filters: [one]}], listens: [https, ssh, amqp]}
  m2: {tags: {role: r2}, interfaces: [{subnet: whole, addresses: [10.50.1.2], public: 203.0.113.2, filters: [one]}],
       listens: [https, ssh, amqp]}
  m3: {tags: {role: r10}, interfaces: [{subnet: whole, addresses: [10.50.1.3], public: 203.0.113.3, filters: [one]}],
       listens: [https, ssh, amqp]}
"""

LOOPS = """
kiboko: 1
networks: {lab: {cidrs: [10.60.0.0/16]}}
subnets:
  left: {network: lab, cidr: 10.60.1.0/24, filter: shut}
  right: {network: lab, cidr: 10.60.2.0/24, filter: shut}
filters:
  shut: {layer: subnet, decide: first, stateful: true, outbound: [{action: allow}],
         inbound: [{order: 10, action: allow, from: 10.60.1.1-10.60.1.9, service: tcp/9000-9010},
                   {order: 20, action: drop, from: 10.60.1.0/24, log: true},
                   {order: 30, action: allow, service: ping}]}
instances:
  l1: {interfaces: [{subnet: left, addresses: [10.60.1.1]}], listens: []}
  r1: {interfaces: [{subnet: right, addresses: [10.60.2.1]}], listens: [tcp/9001]}
"""


class Quiet(unittest.TestCase):
    def test_networks_without_fault_have_no_finding(self):
        for name in ("THREE_TIERS", "STATELESS_EDGES", "BRANCH", "TAGGED_FLEET", "LOOPS"):
            met = audit(Ends(Walker(load(globals()[name]))), date(2026, 11, 25)).findings
            with self.subTest(name):
                self.assertEqual([], [(each.id, each.at, each.proof) for each in met if each.severity != "note"])
