"""What rules of nftables are written with, beyond what nearly all say: conditions and statements to draw from."""

MATCHES = """
iifname "eth*"
oifname != "eth*"
iifname { "eth*", lo }
iif eth0
oif lo
meta l4proto . th dport { tcp . 1000, udp . 1001 }
ip saddr . tcp dport { 10.9.0.1 . 1000, 10.9.0.0/24 . 1001-1002 }
ip saddr 10.9.0.1-10.9.0.9
ip saddr @nets
ip saddr != @nets
ip saddr @met
ip6 saddr @nets6
tcp dport @ports
tcp dport != @ports
ip saddr . th dport @pairs
tcp flags syn,ack
tcp flags ! syn
tcp flags & fin == 0
tcp flags & (syn|ack) != syn
tcp flags { syn, syn|ack }
tcp flags & (fin|syn|rst|ack) == syn
tcp flags syn,rst / syn,rst
tcp flags > 2
ct state != { established, related }
ct state ! new
ct state & (new | established) != 0
ct state invalid
ct state untracked
ct state != new,established
ct mark 0
ct mark & 0xff == 0
ct expiration < 1h
ct original ip daddr 10.9.0.2
ct original proto-dst 1000
ct count over 10
ct zone 0
ct l3proto ipv4
ct protocol tcp
ct packets > 5
ct helper "ftp"
ct label 1
ct status & (dnat|snat) == 0
ct status ! dnat
ip protocol tcp
ip protocol != tcp
ip6 nexthdr { tcp, ipv6-icmp }
meta mark 1
meta mark & 0xff == 1
meta skuid 0
meta cpu 0
meta length > 10
meta iiftype ether
meta priority 0:0
meta pkttype != broadcast
meta random < 0.5
ip ttl 64
ip length < 100
ip frag-off & 0x1fff != 0
ip frag-off & 0x2000 == 0
ip frag-off != 0
ip saddr @lately
ip daddr @lately
ip saddr != @lately
ip frag-off { 0, 0x4000 }
ip saddr & 255.255.255.0 == 10.9.0.0
ip saddr & 0.0.0.1 == 1
ip6 hoplimit 64
ip6 flowlabel 0
exthdr hbh exists
exthdr frag missing
tcp option maxseg size 1-500
tcp option sack-perm exists
tcp option maxseg missing
tcp window > 10
udp length > 4
@th,16,16 1000
@nh,0,4 4
fib saddr . iif oif missing
fib daddr . iif type local
fib saddr oif exists
fib daddr type != local
socket transparent 1
rt classid 0
numgen inc mod 2 == 1
jhash ip saddr mod 2 == 1
meta protocol { ip, ip6 }
ether saddr 00:00:00:00:00:01
icmp type != echo-request
icmp id 1
icmp type . icmp code { echo-request . 0 }
icmpv6 type != { nd-neighbor-solicit, nd-neighbor-advert }
icmp type < 9
icmpv6 type > 127
sctp dport 1000
esp spi 1
meta l4proto >= 17
meta nfproto . meta l4proto { ipv4 . tcp, ipv6 . udp }
tcp dport & 1 == 0
udp dport & 0xfffe == 1000
th dport != { 1000, 1002 }
udp dport < 1001
ip daddr . ip saddr { 10.9.0.2 . 10.9.0.1 }
iifname . tcp dport { "eth0" . 1000 }
ct state . tcp dport { new . 1001 }
tcp dport . ct state { 1001 . new, 1002 . established }
""".strip().splitlines()
"""Conditions of packets between the two machines of `tests.namespaces`, on their ports."""

STATEMENTS = """
log
log prefix "x DROP "
log group 2
counter name counted
quota name spent
limit name slow
limit rate 1/second
limit rate 2/hour burst 1 packets
notrack
queue num 9 bypass
meta nftrace set 1
meta mark set 1
meta mark set ct mark
meta mark set jhash ip saddr mod 4
ct mark set 1
ct event set new
ct label set 1
ct zone set 3
ip dscp set cs1
ip ttl set 63
ip6 hoplimit set 5
tcp dport set 1001
th dport set 1000
ip saddr set 10.9.0.77
tcp option maxseg size set 1200
tcp option maxseg size set rt mtu
reset tcp option sack-perm
meta priority set 1:1
meta pkttype set host
add @met { ip saddr }
update @met { ip saddr limit rate over 10/second }
add @met { ip saddr ct count over 5 }
delete @met { ip saddr }
""".strip().splitlines()
"""What a rule does beside its verdict."""

VERDICT_MAPS = """
tcp dport vmap { 1000 : accept, 1001-1002 : drop, 1003 : continue }
tcp dport vmap @by_port
th dport vmap @by_port
ip saddr . tcp dport vmap { 10.9.0.1 . 1000 : drop, 10.9.0.0/24 . 1001-1002 : accept }
meta l4proto vmap { tcp : accept, udp : drop }
ct state vmap { established : accept, related : accept, invalid : drop }
ct state . tcp dport vmap { new . 1000 : drop, established . 1000 : accept }
iifname vmap { "eth0" : accept, "lo" : drop }
iifname vmap { "eth*" : drop }
icmp type vmap { echo-request : drop, echo-reply : accept }
meta mark vmap { 0 : accept, 1 : drop }
numgen random mod 2 vmap { 0 : accept, 1 : drop }
th dport . meta l4proto vmap { 1000 . tcp : drop, 1001 . udp : accept }
""".strip().splitlines()
"""Rules that are one map of verdicts."""

NAMED = """
set nets { type ipv4_addr; flags interval; elements = { 10.9.0.1, 10.9.0.4/30 }; }
set nets6 { type ipv6_addr; flags interval; elements = { fd09::/126 }; }
set ports { type inet_service; flags interval; elements = { 1000, 1002-1003 }; }
set pairs { type ipv4_addr . inet_service; flags interval; elements = { 10.9.0.0/24 . 1000-1001, 10.9.0.2 . 1002 }; }
set lately { type ipv4_addr; flags timeout; elements = { 10.9.0.1 timeout 1h, 10.9.0.7 timeout 1h }; }
set met { type ipv4_addr; flags dynamic,timeout; timeout 1m; }
map by_port { type inet_service : verdict; flags interval; elements = { 1000 : drop, 1001-1002 : accept }; }
counter counted { }
quota spent { over 100 mbytes }
limit slow { rate 100/second }
""".strip()
"""What a table has to hold for these."""
