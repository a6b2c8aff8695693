#!/bin/sh
# Makes this gateway what the files beside this one say, as often as you like.
#
#   sh apply                 apply, and keep it over reboots
#   sh apply --try SECONDS   apply, and go back by itself unless --keep follows in time
#   sh apply --keep          keep what is being tried
#   sh apply --back          go back: from a trial, else to what was kept before
#   sh apply --check         check everything, change nothing
#   sh apply --ways          choose among tunnels again, after an interface went up or down
#   sh apply --remove        take away everything that was ever made here
#
# The units call it with --boot, --guard and --watch; a trial's end with --expire.
#
# Ours, and so changed or taken away, are: interfaces whose alias begins with
# "wideknot:", next hops, routes and rules of protocol 199, the nft table
# "inet wideknot", the units wideknot*.service, and the folder of what was applied
# (WIDEKNOT_STATE). Nothing else is touched; kernel settings get back, with
# --remove, what they were at first. Keys are taken from secrets/ in this folder or
# from an earlier one, else from WIDEKNOT_KEYS.
#
# Ends with 0 when all is as the files say; 1 when something could not be had (and
# all is as it was before); 3 when it went back; 4 when refused.
set -eu
umask 077
LC_ALL=C
export LC_ALL

state=${WIDEKNOT_STATE:-/var/lib/wideknot}
keys=${WIDEKNOT_KEYS:-/etc/wideknot}
units=${WIDEKNOT_UNITS:-/etc/systemd/system}
here=$(cd "$(dirname "$0")" && pwd)
discard_metric=4294967295

say() { printf '%s\n' "$*" >&2; }
fail() { say "apply: $*"; return 1; }
refuse() { say "apply: $*"; exit 4; }
has() { command -v "$1" >/dev/null 2>&1; }

# files DIR NAME: whether there is such a file with something in it.
filled() { [ -s "$1/$2" ]; }

# lines FILE and batch FAMILY FILE: run lines of ip; none is fine.
lines() { [ ! -s "$1" ] || ip -batch "$1"; }
batch() { [ ! -s "$2" ] || ip "$1" -batch "$2"; }

# route_lines DIR, discard_lines DIR: the routes by ways, and the discards, for ip.
route_lines() { awk '{ print "route replace " $1 " proto 199 nhid " $2 (NF > 2 ? " table " $3 : "") }' "$1/routes"; }
discard_lines() { awk '{ print "route replace blackhole " $1 " proto 199 metric '$discard_metric'" (NF > 1 ? " table " $2 : "") }' "$1/discards"; }

# put: runs lines of ip on standard input; none is fine.
put() {
	cat >"$work/lines"
	lines "$work/lines"
}

# ---- what is there and what should be --------------------------------------

# ours: the interfaces that are ours.
ours() { ip -o link show | awk '/alias wideknot:/ { name = $2; sub(/[:@].*/, "", name); print name }'; }

# wanted_routes DIR and present_routes: TABLE PREFIX KIND, one a line, where KIND is
# route or discard.
wanted_routes() {
	awk '{ print (NF > 2 ? $3 : 254), $1, "route" }' "$1/routes"
	awk '{ print (NF > 1 ? $2 : 254), $1, "discard" }' "$1/discards"
	awk '{ table = 254; for (i = 1; i < NF; i++) if ($i == "table") table = $(i + 1); print table, $3, "route" }' "$1/links.ip"
}
present_routes() {
	for family in -4 -6; do
		ip "$family" route show table all proto 199 | awk -v family="$family" '
			{
				kind = "route"; at = 1
				if ($1 == "blackhole" || $1 == "unreachable" || $1 == "prohibit" || $1 == "unicast") { at = 2 }
				if ($1 == "blackhole" && !/ nhid /) kind = "discard"
				prefix = $at
				if (prefix == "default") prefix = family == "-6" ? "::/0" : "0.0.0.0/0"
				else if (prefix !~ /\//) prefix = prefix (family == "-6" ? "/128" : "/32")
				table = 254
				for (i = at; i < NF; i++) if ($i == "table") table = $(i + 1)
				print table, prefix, kind
			}'
	done
}

# rules FAMILY: the rules that are there, as lines of rules.ip have them.
rules() {
	ip -N "$1" rule show | awk '
		/ proto 199/ {
			line = "rule add"
			sub(/:$/, "", $1)
			for (i = 2; i <= NF; i++) {
				if ($i == "[detached]") continue
				if ($i == "proto") { i++; continue }
				line = line " " $i
			}
			print line " priority " $1 " protocol 199"
		}'
}

# ---- checking ----------------------------------------------------------------

check() { # DIR
	for tool in ip nft awk sha256sum sysctl; do
		has "$tool" || { fail "$tool is missing; on Debian: apt install iproute2 nftables procps"; return 1; }
	done
	(cd "$1" && sha256sum --quiet -c manifest) || { fail "a file of this bundle is not what was rendered; fetch it again"; return 1; }
	if grep -q ' wireguard ' "$1/tunnels"; then
		has wg || { fail "wg is missing; on Debian: apt install wireguard-tools"; return 1; }
		[ -n "$(private_key "$1")" ] || { fail "the private key is missing: put it into $keys/private.key, mode 0600"; return 1; }
		sed -n 's/^#PresharedKey = //p' "$1"/wg/*.conf >"$work/wanted"
		while read -r name; do
			[ -n "$(preshared_key "$1" "${name%.psk}")" ] || { fail "a pre-shared key is missing: put it into $keys/$name, mode 0600, or download the bundle with its keys"; return 1; }
		done <"$work/wanted"
	fi
	if grep -q ' ipsec ' "$1/tunnels"; then
		has swanctl || { fail "swanctl is missing; on Debian: apt install charon-systemd strongswan-swanctl libstrongswan-standard-plugins"; return 1; }
		[ -n "$(ipsec_secrets "$1")" ] || { fail "the secrets of IPsec are missing: put them into $keys/swanctl.secrets, mode 0600, or download the bundle with its keys"; return 1; }
	fi
	ip -o link show | awk '!/alias wideknot:/ { name = $2; sub(/[:@].*/, "", name); print name }' | sort >"$work/theirs"
	foreign=$(cut -d' ' -f1 "$1/tunnels" | sort | comm -12 - "$work/theirs" | head -n 1)
	[ -z "$foreign" ] || { fail "there is an interface $foreign that is not ours; take it away or rename it"; return 1; }
	nft -c -f "$1/filter.nft" || { fail "nft does not take filter.nft; nothing was changed"; return 1; }
	rehearse "$1"
}

# rehearse lets the kernel judge every line in a network namespace of its own, with
# stand-ins for the interfaces.
rehearse() { # DIR
	unshare -n true 2>/dev/null || { say "apply: no network namespace can be made here: routes and rules are not tried beforehand"; return 0; }
	route_lines "$1" >"$work/routes"
	discard_lines "$1" >"$work/discards"
	WIDEKNOT_REHEARSAL=$1 WIDEKNOT_LINES=$work unshare -n sh -eu -c '
		dir=$WIDEKNOT_REHEARSAL
		ip link set lo up
		{ cut -d" " -f1 "$dir/tunnels"; awk "{ for (i = 1; i < NF; i++) if (\$i == \"dev\") print \$(i + 1) }" "$dir/links.ip"; } | sort -u |
			awk "{ print \"link add dev \" \$1 \" type veth\" }" | ip -batch -
		ip -o link show | awk "{ name = \$2; sub(/[:@].*/, \"\", name); print \"link set dev \" name \" up\" }" | ip -batch -
		awk "{ via = dev = \"\"; for (i = 1; i < NF; i++) { if (\$i == \"via\") via = \$(i + 1); if (\$i == \"dev\") dev = \$(i + 1) } if (via != \"\") print \"route replace \" via \" dev \" dev }" "$dir/links.ip" | ip -batch -
		awk "{ for (i = 5; i <= NF; i++) print \"address replace \" \$i \" dev \" \$1; print \"link set dev \" \$1 \" mtu \" \$3 }" "$dir/tunnels" | ip -batch -
		awk "{ print \"nexthop replace id \" \$2 \" dev \" \$1 \" protocol 199\" }" "$dir/tunnels" | ip -6 -batch -
		awk "{ print \"nexthop replace id 84000000 blackhole protocol 199\"; exit }" "$dir/tunnels" | ip -6 -batch -
		awk "NR == FNR { id[\$1] = \$2; next } { for (i = 2; i <= NF; i++) { n = split(\$i, member, \"/\"); text = \"\"; for (j = 1; j <= n; j++) { split(member[j], part, \",\"); text = text (j > 1 ? \"/\" : \"\") id[part[1]] (part[2] > 1 ? \",\" part[2] : \"\") } print \"nexthop replace id \" \$1 \" group \" text \" protocol 199\" } }" "$dir/tunnels" "$dir/ways" | ip -batch -
		ip -batch "$WIDEKNOT_LINES/discards"
		ip -batch "$WIDEKNOT_LINES/routes"
		ip -batch "$dir/links.ip"
		ip -4 -batch "$dir/rules.ip"
		ip -6 -batch "$dir/rules6.ip"
	' || { fail "the kernel does not take this bundle; nothing was changed"; return 1; }
}

# secret DIR NAME: the first of that name: the bundle's, an earlier bundle's, the
# gateway's own.
secret() {
	for file in "$1/secrets/$2" "$state/secrets/$2" "$keys/$2"; do
		[ ! -s "$file" ] || { cat "$file"; return; }
	done
}
private_key() { secret "$1" private.key; }
preshared_key() { secret "$1" "$2.psk"; } # DIR INTERFACE
ipsec_secrets() { secret "$1" swanctl.secrets; }

# ---- interfaces ----------------------------------------------------------------

# settings DIR INTERFACE: its configuration with the prefixes that many have, and the
# secrets.
settings() {
	list=$(sed -n 's|^#AllowedIPs = wg/allowed\.||p' "$1/wg/$2.conf")
	cat "$1/wg/$2.conf" ${list:+"$1/wg/allowed.$list"}
	psk=$(preshared_key "$1" "$2")
	[ -z "$psk" ] || printf 'PresharedKey = %s\n' "$psk"
	printf '[Interface]\nPrivateKey = %s\n' "$(private_key "$1")"
}

# configure INTERFACE: gives it the settings on standard input. A name that nobody
# knows yet does not hold up the rest: --watch asks again.
configure() {
	cat >"$work/settings"
	if WG_ENDPOINT_RESOLUTION_RETRIES=0 wg syncconf "$1" "$work/settings" 2>"$work/said"; then
		rm -f "$state/unresolved/$1"
		return 0
	fi
	grep '^Endpoint' "$work/settings" >/dev/null || { cat "$work/said" >&2; return 1; }
	grep -v '^Endpoint' "$work/settings" >"$work/without"
	wg syncconf "$1" "$work/without" || return 1
	mkdir -p "$state/unresolved"
	: >"$state/unresolved/$1"
	say "apply: $1: $(grep '^Endpoint' "$work/settings" | cut -d' ' -f3) is not known yet; it is asked for again every 30 s"
}

make_interface() { # NAME TRANSPORT
	case $2 in
	wireguard)
		if ! ip link add dev "$1" type wireguard 2>/dev/null; then
			has wireguard-go || { fail "this kernel has no WireGuard; on Debian: apt install wireguard-go"; return 1; }
			LOG_LEVEL=error wireguard-go "$1" >"$work/said" 2>&1 9>&- || { cat "$work/said" >&2; return 1; }
			until wg show "$1" >/dev/null 2>&1; do # its socket
				[ -d "/sys/class/net/$1" ] || { fail "wireguard-go gave up $1"; return 1; }
				sleep 0.02
			done
		fi
		;;
	ipsec)
		ip link add dev "$1" type xfrm if_id "$3" 2>"$work/said" || {
			cat "$work/said" >&2
			fail "this kernel has no xfrm interfaces, by which tunnels of IPsec are told apart"
			return 1
		}
		;;
	esac
	ip link set dev "$1" alias "wideknot:$1"
}

# interfaces DIR: makes them what they should be. What a peer may send is only
# added to; closing takes away the rest.
interfaces() {
	ours >"$work/ours"
	: >"$work/wider"
	while read -r name hop _ transport _ <&3; do
		grep -qx "$name" "$work/ours" || make_interface "$name" "$transport" $((hop - 84000000)) || return 1
		if [ "$transport" = wireguard ]; then
			settings "$1" "$name" >"$work/full"
			wg show "$name" allowed-ips | awk -v conf="$work/full" '
				BEGIN {
					while ((getline line <conf) > 0) {
						if (line ~ /^PublicKey = /) key = substr(line, 13)
						if (line ~ /^AllowedIPs = /) { n = split(substr(line, 14), list, ", "); for (i = 1; i <= n; i++) now[list[i]] = 1 }
					}
				}
				$1 == key { for (i = 2; i <= NF; i++) if ($i != "(none)" && !($i in now)) print "AllowedIPs = " $i }' >"$work/more"
			if [ -s "$work/more" ]; then
				printf '%s\n' "$name" >>"$work/wider"
				awk -v more="$work/more" '{ print } /^\[Peer\]/ { while ((getline line <more) > 0) print line }' "$work/full" | configure "$name" || return 1
			else
				configure "$name" <"$work/full" || return 1
			fi
		fi
	done 3<"$1/tunnels" || return 1
	addresses "$1"
}

# addresses DIR: gives the interfaces what they lack.
addresses() {
	ip -o address show >"$work/addresses"
	ip -o link show >"$work/links"
	awk -v addresses="$work/addresses" -v links="$work/links" '
		BEGIN {
			while ((getline line <addresses) > 0) { split(line, f, /[ \t]+/); have[f[2] " " f[4]] = 1 }
			while ((getline line <links) > 0) {
				n = split(line, f, /[ \t]+/); name = f[2]; sub(/[:@].*/, "", name)
				for (i = 3; i < n; i++) if (f[i] == "mtu") mtu[name] = f[i + 1]
			}
		}
		{
			for (i = 5; i <= NF; i++) if (!(($1 " " $i) in have)) print "address replace " $i " dev " $1 ($i ~ /:/ ? " nodad" : "")
			if (mtu[$1] != $3) print "link set dev " $1 " mtu " $3
		}' "$1/tunnels" >"$work/batch"
	lines "$work/batch"
}

# raise DIR: sets the interfaces up.
raise() {
	awk '{ print "link set dev " $1 " up" }' "$1/tunnels" >"$work/batch"
	lines "$work/batch"
}

# ---- next hops and ways ----------------------------------------------------------

# ways DIR: for each way the first group with a living member; a discard where there
# is none. Only what differs is changed. What a link that was down took with it comes
# back.
ways() {
	addresses "$1" 2>/dev/null || :
	ip -o link show up | awk '{ name = $2; sub(/[:@].*/, "", name); print name }' >"$work/up"
	ip nexthop show >"$work/hops"
	: >"$work/groups"
	awk -v up="$work/up" -v hops="$work/hops" -v tunnels="$1/tunnels" -v groups="$work/groups" '
		BEGIN {
			while ((getline line <up) > 0) alive[line] = 1
			while ((getline line <hops) > 0) {
				split(line, f, " ")
				have[f[2]] = f[3] == "blackhole" ? f[3] : f[4]
			}
			if (have[84000000] != "blackhole") print "nexthop replace id 84000000 blackhole protocol 199"
			while ((getline line <tunnels) > 0) {
				split(line, f, " ")
				if (alive[f[1]]) {
					id[f[1]] = f[2]
					if (have[f[2]] != f[1]) print "nexthop replace id " f[2] " dev " f[1] " protocol 199"
				}
			}
		}
		{
			group = "84000000"
			for (i = 2; i <= NF && group == "84000000"; i++) {
				n = split($i, member, "/"); text = ""
				for (j = 1; j <= n; j++) {
					split(member[j], part, ",")
					if (part[1] in id) text = text (text == "" ? "" : "/") id[part[1]] (part[2] > 1 ? "," part[2] : "")
				}
				if (text != "") group = text
			}
			if (have[$1] != group) print "nexthop replace id " $1 " group " group " protocol 199" >groups
		}' "$1/ways" >"$work/batch"
	batch -6 "$work/batch" && lines "$work/groups" || return 1
	wanted_routes "$1" | sort >"$work/wanted"
	present_routes | sort >"$work/present"
	if [ -n "$(comm -23 "$work/wanted" "$work/present" | head -n 1)" ]; then
		route_lines "$1" | put || return 1
		ip -force -batch "$1/links.ip" 2>/dev/null || say "apply: a WAN link cannot be left as the design says: its device is missing or down"
	fi
}

# endpoints DIR: asks again for names that were not known.
endpoints() {
	for file in "$state"/unresolved/*; do
		[ -e "$file" ] || continue
		settings "$1" "${file##*/}" | configure "${file##*/}" 2>/dev/null || :
	done
}

# ---- all of it --------------------------------------------------------------------

# kernel DIR: settings of the kernel; what those that outlive our interfaces were at
# first is kept for --remove.
kernel() {
	touch "$state/sysctl.before"
	awk -F' = ' -v tunnels="$1/tunnels" -v before="$state/sysctl.before" '
		BEGIN {
			while ((getline line <tunnels) > 0) { split(line, f, " "); mine[f[1]] = 1 }
			while ((getline line <before) > 0) { split(line, f, " = "); known[f[1]] = 1 }
		}
		/ = / && !/^#/ { split($1, part, "."); if (!(part[4] in mine) && !($1 in known)) print $1 }' "$1/sysctl.conf" >"$work/settings"
	while read -r name; do
		sysctl "$name" >>"$state/sysctl.before" || return 1
	done <"$work/settings"
	sysctl -q -p "$1/sysctl.conf" >/dev/null
}

# both DIR: the filter for what is there and what is to be, in one step.
both() {
	{
		cat "$1/filter.nft"
		if filled "$state/current" tunnels; then
			awk '/^\tset / { print $2 }' "$1/filter.nft" >"$work/sets"
			awk -v sets="$work/sets" '
				BEGIN { while ((getline line <sets) > 0) known[line] = 1 }
				/^\tset / { set = $2 }
				/^\t\telements = / && (set in known) { sub(/^\t\telements = /, ""); print "add element inet wideknot " set " " $0 }' "$state/current/filter.nft"
		fi
	} >"$work/filter"
	nft -f "$work/filter"
}

# closing DIR: takes away what is ours and no longer wanted.
closing() {
	for family in -4 -6; do
		file=rules.ip
		[ "$family" = -4 ] || file=rules6.ip
		rules "$family" | sort >"$work/present"
		grep '^rule' "$1/$file" | sort >"$work/wanted" || :
		comm -23 "$work/present" "$work/wanted" | sed 's/^rule add/rule del/' >"$work/batch"
		batch "$family" "$work/batch" || return 1
	done
	wanted_routes "$1" | sort >"$work/wanted"
	present_routes | sort >"$work/present"
	comm -13 "$work/wanted" "$work/present" >"$work/stale"
	awk '$3 == "route" { print "route del " $2 " table " $1 " proto 199" }' "$work/stale" >"$work/batch"
	lines "$work/batch" || return 1
	ip nexthop show >"$work/hops"
	awk -v ways="$1/ways" -v tunnels="$1/tunnels" '
		BEGIN {
			while ((getline line <ways) > 0) { split(line, f, " "); keep[f[1]] = 1 }
			while ((getline line <tunnels) > 0) { split(line, f, " "); keep[f[2]] = 1 }
			keep[84000000] = 1
		}
		/ proto 199/ && !($2 in keep) { print ($2 >= 1000000000 ? 0 : 1) " nexthop del id " $2 }' "$work/hops" | sort -n | cut -d' ' -f2- >"$work/batch"
	lines "$work/batch" || return 1
	cut -d' ' -f1 "$1/tunnels" | sort >"$work/wanted"
	ours | sort | comm -13 "$work/wanted" - | sed 's/^/link del dev /' >"$work/batch"
	lines "$work/batch" || return 1
	ip -o address show >"$work/addresses"
	awk -v tunnels="$1/tunnels" '
		BEGIN { while ((getline line <tunnels) > 0) { n = split(line, f, " "); mine[f[1]] = 1; for (i = 5; i <= n; i++) keep[f[1] " " f[i]] = 1 } }
		($2 in mine) && !/scope link/ && !(($2 " " $4) in keep) { print "address del " $4 " dev " $2 }' "$work/addresses" >"$work/batch"
	lines "$work/batch" || return 1
	nft -f "$1/filter.nft" || return 1
	while read -r name; do
		settings "$1" "$name" | configure "$name" || return 1
	done <"$work/wider"
	awk '$3 == "discard" { print "route del blackhole " $2 " table " $1 " metric '$discard_metric' proto 199" }' "$work/stale" >"$work/batch"
	lines "$work/batch" || return 1
}

# bring DIR: makes it so, in an order in which nothing that stays is cut: discards;
# the filter for both; interfaces; next hops, ways, routes; rules; then away with
# what is old.
bring() {
	discard_lines "$1" | put && both "$1" && interfaces "$1" && raise "$1" && kernel "$1" &&
		ways "$1" && route_lines "$1" | put || return 1
	ip -force -batch "$1/links.ip" 2>/dev/null || say "apply: a WAN link cannot be left as the design says: its device is missing or down"
	for family in -4 -6; do
		file=rules.ip
		[ "$family" = -4 ] || file=rules6.ip
		rules "$family" | sort >"$work/present"
		{ grep '^rule' "$1/$file" || :; } | sort | comm -13 "$work/present" - >"$work/batch"
		batch "$family" "$work/batch" || return 1
	done
	secure "$1" && closing "$1"
}

# secure DIR: hands IPsec its configuration.
secure() {
	if filled "$1" swanctl.conf; then
		mkdir -p "$swanctl/conf.d"
		{ cat "$1/swanctl.conf" && ipsec_secrets "$1"; } >"$swanctl/conf.d/wideknot.conf"
		swanctl --load-all >"$work/said" 2>&1 || { cat "$work/said" >&2; return 1; }
	elif [ -e "$swanctl/conf.d/wideknot.conf" ]; then
		rm -f "$swanctl/conf.d/wideknot.conf"
		swanctl --load-all >/dev/null 2>&1 || :
	fi
}

# ---- keeping, trying, going back ------------------------------------------------

# Bundles stand under the state folder by the beginning of their digest; kept,
# former, trial and current are names for them.

# store DIR: a copy of the bundle, whose name is then in $id.
store() {
	id=$(sha256sum "$1/manifest" | cut -c1-16)
	if [ ! -d "$state/bundles/$id" ]; then
		rm -rf "$state/next"
		mkdir -p "$state/next" "$state/bundles"
		cp -R "$1/." "$state/next/"
		rm -rf "$state/next/secrets"
		mv "$state/next" "$state/bundles/$id"
	fi
	if [ -d "$1/secrets" ]; then
		mkdir -p "$state/secrets"
		cp "$1"/secrets/* "$state/secrets/"
	fi
}

name() { ln -sfn "bundles/$2" "$state/$1"; }             # name NAME ID
named() { readlink "$state/$1" | sed 's|^bundles/||'; } # named NAME: the ID
on_trial() { [ -e "$state/trial" ]; }

# tidy drops bundles that nothing names.
tidy() {
	for bundle in "$state"/bundles/*; do
		case " $(named kept) $(named former) $(named trial) $(named current) " in
		*" ${bundle##*/} "*) ;;
		*) rm -rf "$bundle" ;;
		esac
	done
}

# keeping ID: what was kept before stays as the former.
keeping() {
	[ ! -e "$state/kept" ] || [ "$(named kept)" = "$1" ] || name former "$(named kept)"
	name kept "$1"
}

# go_back: to what is kept, or to nothing of ours.
go_back() {
	if [ -e "$state/kept" ]; then
		bring "$state/kept" || return 1
		name current "$(named kept)"
		rm -f "$state/trial" "$state/token"
		tidy
	else
		remove
	fi
}

# now_or_back ID: brings a stored bundle up; where that fails, all is as before.
now_or_back() {
	if bring "$state/bundles/$1"; then
		name current "$1"
		return 0
	fi
	say "apply: this bundle could not be applied; going back"
	rm -f "$state/trial"
	name current "$1" # what there is of it is to be taken away
	go_back || say "apply: going back failed too; mend the cause, then: sh $state/kept/apply"
	exit 1
}

# after SECONDS TOKEN: ends the trial unless it was kept by then.
after() {
	printf '%s\n' "$2" >"$state/token"
	if [ -d /run/systemd/system ]; then
		systemd-run -q --on-active="$1" --timer-property=AccuracySec=100ms \
			--setenv=WIDEKNOT_STATE="$state" --setenv=WIDEKNOT_KEYS="$keys" /bin/sh "$state/trial/apply" --expire "$2"
	else
		setsid sh -c 'sleep "$1"; exec sh "$2" --expire "$3"' sh "$1" "$state/trial/apply" "$2" </dev/null >/dev/null 2>&1 9>&- &
	fi
}

install_units() {
	[ -d /run/systemd/system ] || return 0
	for unit in wideknot wideknot-guard wideknot-ways; do
		cp "$state/current/$unit.service" "$units/"
	done
	systemctl daemon-reload
	systemctl -q enable wideknot.service wideknot-guard.service wideknot-ways.service
	systemctl restart --no-block wideknot-ways.service
}

remove_units() {
	[ -e "$units/wideknot.service" ] || return 0
	systemctl -q disable wideknot.service wideknot-guard.service wideknot-ways.service || :
	systemctl stop --no-block wideknot-ways.service || :
	rm -f "$units/wideknot.service" "$units/wideknot-guard.service" "$units/wideknot-ways.service"
	systemctl daemon-reload
}

# remove takes away everything of ours, the copies of bundles and keys included.
remove() {
	for family in -4 -6; do
		rules "$family" | sed 's/^rule add/rule del/' >"$work/batch"
		batch "$family" "$work/batch"
	done
	present_routes | awk '{ print "route del " ($3 == "discard" ? "blackhole " : "") $2 " table " $1 ($3 == "discard" ? " metric '$discard_metric'" : "") " proto 199" }' >"$work/batch"
	lines "$work/batch"
	ip nexthop show | awk '/ proto 199/ { print ($2 >= 1000000000 ? 0 : 1) " nexthop del id " $2 }' | sort -n | cut -d' ' -f2- >"$work/batch"
	lines "$work/batch"
	ours | sed 's/^/link del dev /' >"$work/batch"
	lines "$work/batch"
	! nft list table inet wideknot >/dev/null 2>&1 || nft delete table inet wideknot
	if [ -e "$swanctl/conf.d/wideknot.conf" ]; then
		rm -f "$swanctl/conf.d/wideknot.conf"
		swanctl --load-all >/dev/null 2>&1 || :
	fi
	[ ! -s "$state/sysctl.before" ] || sysctl -q -p "$state/sysctl.before" >/dev/null || :
	remove_units
	rm -rf "$state/bundles" "$state/next" "$state/secrets" "$state/unresolved"
	rm -f "$state/kept" "$state/former" "$state/trial" "$state/current" "$state/token" "$state/moved" "$state/sysctl.before"
}

swanctl=${WIDEKNOT_SWANCTL:-/etc/swanctl}
[ "$(id -u)" = 0 ] || refuse "this needs root"
mkdir -p "$state"
exec 9>"$state/lock"
flock 9
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

case ${1:-} in
"")
	! on_trial || refuse "a bundle is being tried: --keep or --back first"
	check "$here"
	store "$here"
	now_or_back "$id"
	keeping "$id"
	install_units
	tidy
	say "applied and kept: $(head -n 1 "$here/release")"
	;;
--try)
	case ${2:-} in
	"" | *[!0-9]*) refuse "--try wants a number of seconds" ;;
	esac
	! on_trial || refuse "a bundle is being tried: --keep or --back first"
	check "$here"
	store "$here"
	name trial "$id"
	now_or_back "$id"
	after "$2" "$$.$(date +%s)"
	say "applied for $2 s: $(head -n 1 "$here/release"); sh apply --keep keeps it"
	;;
--keep)
	on_trial || refuse "nothing is being tried"
	keeping "$(named trial)"
	rm -f "$state/trial" "$state/token"
	install_units
	tidy
	say "kept: $(head -n 1 "$state/kept/release")"
	;;
--expire)
	[ "$(cat "$state/token" 2>/dev/null)" = "${2:-}" ] || exit 0
	go_back
	exit 3
	;;
--back)
	if ! on_trial; then
		[ -e "$state/former" ] || refuse "there is nothing to go back to"
		was=$(named kept)
		name kept "$(named former)"
		name former "$was"
	fi
	go_back
	say "went back"
	;;
--boot)
	[ -e "$state/kept" ] || exit 0
	rm -f "$state/trial" "$state/token"
	name current "$(named kept)"
	bring "$state/kept"
	;;
--guard)
	[ ! -e "$state/kept" ] || { discard_lines "$state/kept" | put && nft -f "$state/kept/filter.nft"; }
	;;
--ways)
	[ -e "$state/current" ] || refuse "nothing was applied yet"
	ways "$state/current"
	;;
--watch)
	exec 9>&-
	rm -f "$state/moved"
	ip monitor link | while read -r _; do : >"$state/moved"; done &
	events=$!
	sh "$here/apply" --ways || :
	turn=0
	while sleep 0.2; do # many changes at once are one
		kill -0 "$events" 2>/dev/null || { fail "ip monitor ended"; exit 1; }
		if [ -e "$state/moved" ]; then
			rm -f "$state/moved"
			sh "$here/apply" --ways || :
		fi
		turn=$(((turn + 1) % 150))
		[ "$turn" != 0 ] || [ ! -e "$state/current" ] || endpoints "$state/current"
	done
	;;
--check)
	check "$here"
	if [ ! -e "$state/current" ]; then # nothing of ours was here before
		rm -f "$state/lock"
		rmdir "$state" 2>/dev/null || :
	fi
	say "this bundle can be applied: $(head -n 1 "$here/release")"
	;;
--remove)
	remove
	rm -f "$state/lock"
	rmdir "$state" 2>/dev/null || :
	say "everything that was made here is gone"
	;;
*)
	refuse "what is $1? See the head of this file"
	;;
esac
