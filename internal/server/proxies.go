package server

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// forwarded is what a proxy says of a request that it passes on.
type forwarded struct{ client, proto, host string }

// proxied sees requests that come through trusted proxies as the first of these, or the one before it, got them: the address of the caller,
// the scheme and the host (RFC 7239, and X-Forwarded-*). What others say in these fields is passed over.
func (s *Server) proxied(next http.Handler) http.Handler {
	if len(s.front.TrustedProxies) == 0 {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.trusts(address(r)) {
			chain := forwardedChain(r.Header)
			// The last who is no proxy of ours is the caller; who stands before that was only told to us.
			i := len(chain) - 1
			for i > 0 && s.trusts(chain[i].client) {
				i--
			}
			if i >= 0 {
				if chain[i].client != "" {
					r.RemoteAddr = net.JoinHostPort(chain[i].client, "0")
				}
				if p := strings.ToLower(chain[i].proto); p == "http" || p == "https" {
					r.URL.Scheme = p
				}
				if chain[i].host != "" {
					r.Host = chain[i].host
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) trusts(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(s.front.TrustedProxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// forwardedChain is the proxies' words, the first proxy's first. Where there is a Forwarded field, the older ones do not count.
func forwardedChain(h http.Header) (chain []forwarded) {
	for _, element := range listOf(h.Values("Forwarded")) {
		var f forwarded
		for _, pair := range split(element, ';') {
			name, value, _ := strings.Cut(pair, "=")
			value = strings.Trim(strings.TrimSpace(value), `"`)
			switch strings.ToLower(strings.TrimSpace(name)) {
			case "for":
				f.client = node(value)
			case "proto":
				f.proto = value
			case "host":
				f.host = value
			}
		}
		chain = append(chain, f)
	}
	if chain != nil {
		return chain
	}
	protos, hosts := listOf(h.Values("X-Forwarded-Proto")), listOf(h.Values("X-Forwarded-Host"))
	for _, client := range listOf(h.Values("X-Forwarded-For")) {
		chain = append(chain, forwarded{client: node(client)})
	}
	if chain == nil && (protos != nil || hosts != nil) {
		chain = []forwarded{{}}
	}
	for i := range chain { // most proxies set these once, and do not add to them
		chain[i].proto, chain[i].host = pick(protos, i, len(chain)), pick(hosts, i, len(chain))
	}
	return chain
}

func pick(list []string, i, of int) string {
	switch {
	case len(list) == of:
		return list[i]
	case len(list) > 0:
		return list[len(list)-1]
	}
	return ""
}

func listOf(lines []string) (out []string) {
	for _, line := range lines {
		for _, item := range split(line, ',') {
			out = append(out, strings.TrimSpace(item))
		}
	}
	return out
}

// split splits a text where a character stands outside of quotes.
func split(text string, at byte) (parts []string) {
	quoted, begin := false, 0
	for i := range len(text) {
		switch text[i] {
		case '"':
			quoted = !quoted
		case at:
			if !quoted {
				parts, begin = append(parts, text[begin:i]), i+1
			}
		}
	}
	return append(parts, text[begin:])
}

// node is the address of a node (RFC 7239, 6), without its port; "" where it is hidden.
func node(text string) string {
	if a, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return a.Unmap().String()
	}
	if a, err := netip.ParseAddrPort(text); err == nil {
		return a.Addr().Unmap().String()
	}
	return ""
}
