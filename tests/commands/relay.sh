#!/bin/sh
# On a practice plant's workstation, in a folder with plan.csv and udhcpc.sh: an assignment through a
# real relay agent, to a client behind it that is then replaced by one with another MAC.
set -u
unshare -n sleep 60 & relay=$!
unshare -n sleep 60 & client=$!
sleep 0.3
at() { nsenter -t "$1" -n sh -c "$2"; }
ip link add relay0 type veth peer name up0 netns $relay
ip addr add 10.61.25.1/24 dev relay0
ip link set relay0 up
at $relay "ip addr add 10.61.25.2/24 dev up0; ip link set up0 up
    ip link add down0 type veth peer name eth0 netns $client
    ip addr add 10.61.30.1/24 dev down0; ip link set down0 up
    echo 1 >/proc/sys/net/ipv4/ip_forward"
nsenter -t $relay -n dhcrelay -4 -d -a -iu up0 -id down0 10.61.25.1 >relay.log 2>&1 & agent=$!
portcall assign --adapter relay0 --until-done --for 25 --json >events & server=$!
timeout 15 sh -c 'until grep -q :0043 /proc/net/udp; do sleep 0.05; done'
for mac in 02:4e:07:00:00:21 02:4e:07:00:00:99; do
    at $client "ip addr flush dev eth0; ip link set eth0 down
        ip link set eth0 address $mac; ip link set eth0 up; sleep 0.5
        timeout 8 udhcpc -f -n -q -t 4 -T 2 -i eth0 -s ./udhcpc.sh >>clients.log 2>&1
        ip -4 -o addr show eth0; ip route show default; sleep 1.5"
done
wait $server
echo "ended $?"
kill $relay $client $agent
cat events
