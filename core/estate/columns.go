package estate

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/addr"
)

// A column reads its cell into a row and writes the row's value back. Its name
// is the document's.
type column[T any] struct {
	name string
	set  func(into *T, c *cell) error
	get  func(from *T) string
}

// A cell is one value of a sheet as given and with the space around it gone.
// note is set when its parser had to change more than that; commas says that the
// sheet separates cells by semicolons, as is done where a comma is the decimal
// mark.
type cell struct {
	given, text, note string
	commas            bool
}

type siteRow struct{ *Site }
type linkRow struct {
	site string
	*Link
}
type subnetRow struct {
	site string
	*Subnet
}

var siteColumns = []column[siteRow]{
	{"key", func(r *siteRow, c *cell) error { return setKey(&r.Key, c) }, func(r *siteRow) string { return r.Key }},
	{"name", func(r *siteRow, c *cell) error { r.Name = c.text; return nil }, func(r *siteRow) string { return r.Name }},
	{"region", func(r *siteRow, c *cell) error { return setKey(&r.Region, c) }, func(r *siteRow) string { return r.Region }},
	{"demand_mbps", func(r *siteRow, c *cell) error { return setNumber(&r.DemandMbps, c) }, func(r *siteRow) string { return number(r.DemandMbps) }},
	{"placement", func(r *siteRow, c *cell) error { return setWord(&r.Gateway.Placement, c) }, func(r *siteRow) string { return string(r.Gateway.Placement) }},
	{"target", func(r *siteRow, c *cell) error { return setWord(&r.Gateway.Target, c) }, func(r *siteRow) string { return string(r.Gateway.Target) }},
	{"max_tunnels", func(r *siteRow, c *cell) error { return setWhole(&r.Gateway.MaxTunnels, c) }, func(r *siteRow) string { return whole(r.Gateway.MaxTunnels) }},
	{"throughput_mbps", func(r *siteRow, c *cell) error { return setNumber(&r.Gateway.ThroughputMbps, c) }, func(r *siteRow) string { return number(r.Gateway.ThroughputMbps) }},
	{"transports", func(r *siteRow, c *cell) error { return setWords(&r.Gateway.Transports, c) }, func(r *siteRow) string { return words(r.Gateway.Transports) }},
	{"lan_device", func(r *siteRow, c *cell) error { r.Gateway.LANDevice = c.text; return nil }, func(r *siteRow) string { return r.Gateway.LANDevice }},
	{"lan_address", func(r *siteRow, c *cell) error { return setAddress(&r.Gateway.LANAddress, c) }, func(r *siteRow) string { return address(r.Gateway.LANAddress) }},
	{"upstream", func(r *siteRow, c *cell) error { return setAddress(&r.Gateway.Upstream, c) }, func(r *siteRow) string { return address(r.Gateway.Upstream) }},
	{"lan_address6", func(r *siteRow, c *cell) error { return setAddress(&r.Gateway.LANAddress6, c) }, func(r *siteRow) string { return address(r.Gateway.LANAddress6) }},
	{"upstream6", func(r *siteRow, c *cell) error { return setAddress(&r.Gateway.Upstream6, c) }, func(r *siteRow) string { return address(r.Gateway.Upstream6) }},
	{"switches", func(r *siteRow, c *cell) error { return setYesNo(&r.Gateway.Switches, c) }, func(r *siteRow) string { return yesNo(r.Gateway.Switches) }},
	{"listen_port", func(r *siteRow, c *cell) error { return setWhole(&r.Gateway.ListenPort, c) }, func(r *siteRow) string { return whole(r.Gateway.ListenPort) }},
	{"used_ports", func(r *siteRow, c *cell) error { return setWholes(&r.Gateway.UsedPorts, c) }, func(r *siteRow) string { return wholes(r.Gateway.UsedPorts) }},
	{"proposals", func(r *siteRow, c *cell) error {
		r.Gateway.Proposals = slices.Clip(append([]string(nil), listCell(c)...))
		return nil
	}, func(r *siteRow) string { return words(r.Gateway.Proposals) }},
	{"clock_skew_s", func(r *siteRow, c *cell) error { return setNumber(&r.Gateway.ClockSkewS, c) }, func(r *siteRow) string { return number(r.Gateway.ClockSkewS) }},
	{"public_key", func(r *siteRow, c *cell) error { r.Gateway.PublicKey = c.text; return nil }, func(r *siteRow) string { return r.Gateway.PublicKey }},
}

var linkColumns = []column[linkRow]{
	{"site", func(r *linkRow, c *cell) error { return setKey(&r.site, c) }, func(r *linkRow) string { return r.site }},
	{"key", func(r *linkRow, c *cell) error { return setKey(&r.Key, c) }, func(r *linkRow) string { return r.Key }},
	{"provider", func(r *linkRow, c *cell) error { r.Provider = c.text; return nil }, func(r *linkRow) string { return r.Provider }},
	{"underlay", func(r *linkRow, c *cell) error { return setKey(&r.Underlay, c) }, func(r *linkRow) string { return r.Underlay }},
	{"reach", func(r *linkRow, c *cell) error { return setWord(&r.Reach, c) }, func(r *linkRow) string { return string(r.Reach) }},
	{"addresses", func(r *linkRow, c *cell) error { return setAddresses(&r.Addresses, c) }, func(r *linkRow) string { return addresses(r.Addresses) }},
	{"hostname", func(r *linkRow, c *cell) error { r.Hostname = c.text; return nil }, func(r *linkRow) string { return r.Hostname }},
	{"families", func(r *linkRow, c *cell) error { return setWords(&r.Families, c) }, func(r *linkRow) string { return words(r.Families) }},
	{"outside", func(r *linkRow, c *cell) error { return setAddress(&r.Outside, c) }, func(r *linkRow) string { return address(r.Outside) }},
	{"forwards", func(r *linkRow, c *cell) error { return setWords(&r.Forwards, c) }, func(r *linkRow) string { return words(r.Forwards) }},
	{"rank", func(r *linkRow, c *cell) error { return setWhole(&r.Rank, c) }, func(r *linkRow) string { return whole(r.Rank) }},
	{"weight", func(r *linkRow, c *cell) error { return setWhole(&r.Weight, c) }, func(r *linkRow) string { return whole(r.Weight) }},
	{"down_mbps", func(r *linkRow, c *cell) error { return setNumber(&r.DownMbps, c) }, func(r *linkRow) string { return number(r.DownMbps) }},
	{"up_mbps", func(r *linkRow, c *cell) error { return setNumber(&r.UpMbps, c) }, func(r *linkRow) string { return number(r.UpMbps) }},
	{"mtu", func(r *linkRow, c *cell) error { return setWhole(&r.MTU, c) }, func(r *linkRow) string { return whole(r.MTU) }},
	{"metered", func(r *linkRow, c *cell) error { return setYesNo(&r.Metered, c) }, func(r *linkRow) string { return yesNo(r.Metered) }},
	{"shared_fate", func(r *linkRow, c *cell) error { return setWords(&r.SharedFate, c) }, func(r *linkRow) string { return words(r.SharedFate) }},
	{"availability", func(r *linkRow, c *cell) error { return setNumber(&r.Availability, c) }, func(r *linkRow) string { return number(r.Availability) }},
	{"latency_ms", func(r *linkRow, c *cell) error { return setNumber(&r.LatencyMs, c) }, func(r *linkRow) string { return number(r.LatencyMs) }},
	{"jitter_ms", func(r *linkRow, c *cell) error { return setNumber(&r.JitterMs, c) }, func(r *linkRow) string { return number(r.JitterMs) }},
	{"loss_percent", func(r *linkRow, c *cell) error { return setNumber(&r.LossPercent, c) }, func(r *linkRow) string { return number(r.LossPercent) }},
	{"no_tunnels", func(r *linkRow, c *cell) error { return setYesNo(&r.NoTunnels, c) }, func(r *linkRow) string { return yesNo(r.NoTunnels) }},
	{"zones", func(r *linkRow, c *cell) error { return setWords(&r.Zones, c) }, func(r *linkRow) string { return words(r.Zones) }},
	{"device", func(r *linkRow, c *cell) error { r.Device = c.text; return nil }, func(r *linkRow) string { return r.Device }},
	{"next_hop", func(r *linkRow, c *cell) error { return setAddresses(&r.NextHop, c) }, func(r *linkRow) string { return addresses(r.NextHop) }},
}

var subnetColumns = []column[subnetRow]{
	{"site", func(r *subnetRow, c *cell) error { return setKey(&r.site, c) }, func(r *subnetRow) string { return r.site }},
	{"prefix", func(r *subnetRow, c *cell) error { return setPrefix(&r.Prefix, c) }, func(r *subnetRow) string { return prefixText(r.Prefix) }},
	{"zone", func(r *subnetRow, c *cell) error { return setKey(&r.Zone, c) }, func(r *subnetRow) string { return r.Zone }},
	{"name", func(r *subnetRow, c *cell) error { r.Name = c.text; return nil }, func(r *subnetRow) string { return r.Name }},
	{"share", func(r *subnetRow, c *cell) error { return setWords(&r.Share, c) }, func(r *subnetRow) string { return words(r.Share) }},
	{"map", func(r *subnetRow, c *cell) error { return setPrefix(&r.Map, c) }, func(r *subnetRow) string { return prefixText(r.Map) }},
}

func setKey(into *string, c *cell) error {
	key := strings.NewReplacer(" ", "-", "_", "-").Replace(strings.ToLower(c.text))
	if key != c.text {
		c.note = fmt.Sprintf("%q became %s", brief(c.text), brief(key))
	}
	*into = key
	if trouble := keyTrouble(key); key != "" && trouble != "" {
		return fmt.Errorf("expected a key: %s", trouble)
	}
	return nil
}

func setWord[T ~string](into *T, c *cell) error {
	*into = T(strings.ToLower(c.text))
	if string(*into) != c.text {
		c.note = fmt.Sprintf("%q became %s", c.text, *into)
	}
	return nil
}

func setWords[T ~string](into *[]T, c *cell) error {
	*into = nil
	for _, word := range listCell(c) {
		if !slices.Contains(*into, T(strings.ToLower(word))) {
			*into = append(*into, T(strings.ToLower(word)))
		}
	}
	if text := words(*into); c.note == "" && text != c.text {
		c.note = fmt.Sprintf("%q became %s", c.text, text)
	}
	return nil
}

// listCell splits a list. Spaces separate; commas and semicolons are taken for
// the same, and told.
func listCell(c *cell) []string {
	list := strings.FieldsFunc(c.text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' || r == '\n' })
	if strings.ContainsAny(c.text, ",;\n") {
		c.note = fmt.Sprintf("%q was read as the list %s", c.text, strings.Join(list, " "))
	}
	return list
}

func setNumber(into *float64, c *cell) error {
	if *into = 0; c.text == "" {
		return nil
	}
	text, err := plainNumber(c)
	if err != nil {
		return err
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || n-n != 0 || strings.ContainsAny(text, "xXpP_") {
		return fmt.Errorf("expected a number without unit, such as 40 or 99.9")
	}
	*into = n
	return nil
}

func setWhole(into *int, c *cell) error {
	if *into = 0; c.text == "" {
		return nil
	}
	text, err := plainNumber(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return fmt.Errorf("expected a whole number")
	}
	*into = n
	return nil
}

// Numbers with separators of thousands, by what separates.
var (
	spaced      = regexp.MustCompile("^-?[0-9]{1,3}(?:[ '\u2019\u00a0\u2009\u202f][0-9]{3})+(?:[.,][0-9]+)?$")
	commaGroups = regexp.MustCompile(`^-?[1-9][0-9]{0,2}(?:,[0-9]{3})+(?:\.[0-9]+)?$`)
	dotGroups   = regexp.MustCompile(`^-?[1-9][0-9]{0,2}(?:\.[0-9]{3})+(?:,[0-9]+)?$`)
)

// plainNumber writes a number as Go reads it: separators of thousands go, a decimal
// comma becomes a point, and both are told. One separator before three digits
// may be either; the sheet's own separator of cells decides for a comma, and a
// point where the comma is the decimal mark is refused.
func plainNumber(c *cell) (string, error) {
	text := c.text
	drop := func(marks string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(marks, r) {
				return -1
			}
			return r
		}, text)
	}
	switch {
	case spaced.MatchString(text):
		text = strings.Replace(drop(" '\u2019\u00a0\u2009\u202f"), ",", ".", 1)
	case commaGroups.MatchString(text) && (!c.commas || strings.Count(text, ",") > 1 || strings.Contains(text, ".")):
		text = drop(",")
	case dotGroups.MatchString(text) && (strings.Count(text, ".") > 1 || strings.Contains(text, ",")):
		text = strings.Replace(drop("."), ",", ".", 1)
	case dotGroups.MatchString(text) && c.commas:
		return "", fmt.Errorf("%s can mean %s or %s in a sheet with semicolons; write it without the point", text, drop("."), strings.TrimRight(strings.TrimRight(text, "0"), "."))
	case strings.Count(text, ",") == 1 && !strings.Contains(text, "."):
		text = strings.Replace(text, ",", ".", 1)
	default:
		return text, nil
	}
	c.note = fmt.Sprintf("%q was read as %s", c.text, text)
	return text, nil
}

func setWholes(into *[]int, c *cell) error {
	*into = nil
	for _, word := range listCell(c) {
		n, err := strconv.Atoi(word)
		if err != nil {
			return fmt.Errorf("expected whole numbers with spaces between; %q is none", word)
		}
		*into = append(*into, n)
	}
	return nil
}

func setYesNo(into *bool, c *cell) error {
	switch strings.ToLower(c.text) {
	case "", "no", "n", "false", "0":
		*into = false
	case "yes", "y", "true", "1", "x":
		*into = true
	default:
		return fmt.Errorf("expected yes or no")
	}
	return nil
}

func setPrefix(into *netip.Prefix, c *cell) error {
	if *into = (netip.Prefix{}); c.text == "" {
		return nil
	}
	p, note, err := addr.ParsePrefix(c.text)
	if err != nil {
		return err
	}
	*into, c.note = p, note
	return nil
}

func setAddress(into *netip.Addr, c *cell) error {
	if *into = (netip.Addr{}); c.text == "" {
		return nil
	}
	a, err := addr.ParseAddr(c.text)
	if err != nil {
		return fmt.Errorf("expected an IPv4 or IPv6 address without length: %w", err)
	}
	*into = a
	return nil
}

func setAddresses(into *[]netip.Addr, c *cell) error {
	*into = nil
	for _, word := range listCell(c) {
		a, err := addr.ParseAddr(word)
		if err != nil {
			return fmt.Errorf("expected addresses with spaces between: %w", err)
		}
		*into = append(*into, a)
	}
	return nil
}

func number(n float64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatFloat(n, 'f', -1, 64)
}

func whole(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func wholes(list []int) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.Itoa(n)
	}
	return strings.Join(out, " ")
}

func words[T ~string](list []T) string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return strings.Join(out, " ")
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func address(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func addresses(list []netip.Addr) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return strings.Join(out, " ")
}

func prefixText(p netip.Prefix) string {
	if !p.IsValid() {
		return ""
	}
	return p.String()
}
