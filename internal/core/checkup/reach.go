package checkup

import (
	"fmt"
	"strings"
	"time"
)

// View is what one vantage point said of itself.
type View struct {
	Name    string
	Own     bool // the server's own
	State   string
	Problem string
}

// JudgeViews says how the vantage points stand. working is the state of one that works.
func JudgeViews(list []View, working string) []Point {
	var out []Point
	elsewhere := 0
	for _, v := range list {
		if !v.Own {
			elsewhere++
		}
		switch {
		case v.State == working:
			out = append(out, Vantage.good(v.Name, "works"))
		case v.Problem != "":
			out = append(out, Vantage.not(Attention, v.Name, "mend what it says of itself; until then what it sees does not count",
				"is %s: %s", v.State, v.Problem))
		default:
			out = append(out, Vantage.not(Attention, v.Name,
				"start inkpost vantage run on its machine, or remove it: inkpost vantage remove "+
					v.Name, "is %s", v.State))
		}
	}
	if elsewhere == 0 {
		out = append(out, Vantage.not(Attention, "elsewhere", "set one up on a machine of another provider: inkpost vantage invite NAME",
			"none looks from elsewhere: nobody proves that this server itself is reached"))
	}
	return out
}

// Door is a port of this server that the world has to reach, and what came of trying it from one place.
type Door struct {
	Name    string // of what listens there
	Where   string // "host:port transport"
	From    string // the vantage point
	Answers bool
	Took    time.Duration
	Words   string // of what came instead
	Tried   bool
	// Inner is the port that the service itself has, where that is another one; InnerAnswers reports whether that one answers from there.
	Inner        int
	InnerAnswers bool
	Needed       string // what does not work without it
}

// Judge says whether the world reaches the port.
func (d Door) Judge() Point {
	name := d.Name + " from " + d.From
	switch {
	case !d.Tried:
		return Port.not(Untried, name, "", "%s was not tried: %s", d.Where, d.Words)
	case d.Answers:
		return Port.good(name, "%s answers in %s", d.Where, span(d.Took))
	case d.InnerAnswers:
		return Port.not(Wrong, name, fmt.Sprintf("pass that port on to %d, or let the service listen there itself; %s", d.Inner, d.Needed),
			"%s does not answer (%s); the service answers at port %d", d.Where, d.Words, d.Inner)
	}
	return Port.not(Wrong, name, "look at the firewall and the forward in front of this server; "+d.Needed, "%s does not answer: %s",
		d.Where,
		d.Words)
}

// Post is what came of handing a mail server nothing but a greeting. Step is where it ended.
type Post struct {
	Set           bool
	Address, Step string
	Trouble       string
	Took          time.Duration
}

// Judge says whether notices can be mailed.
func (p Post) Judge() Point {
	switch {
	case !p.Set:
		return Mail.not(Attention, "server", "give inkpost serve --mail-server and --mail-from; until then nobody is told by mail",
			"none is set")
	case p.Trouble != "":
		return Mail.not(Wrong, "server", "mend --mail-server, --mail-security, --mail-user or the mail server", "%s, at %s: %s", p.Address,
			p.Step, p.Trouble)
	}
	return Mail.good("server", "%s takes mail from us, in %s", p.Address, span(p.Took))
}

// Cert is what the public URL shows. Trouble says why a browser would not take it.
type Cert struct {
	URL     string // "" if nobody has said where sites reach this server
	Names   []string
	Expires time.Time
	Trouble string
	Renewal string // why the authority that issues it did not do so lately; "" if nothing is wrong
}

// How long a certificate should still be valid: those that renew themselves do so at 30 days.
const shortCert = 21 * 24 * time.Hour

// Judge says whether sites and people reach this server by a certificate that they can believe.
func (c Cert) Judge(now time.Time) Point {
	const renew = "renew it; see the guide on HTTPS"
	left := c.Expires.Sub(now)
	switch {
	case c.URL == "":
		return HTTPS.not(Attention, "public URL", "give inkpost serve --public-url, such as https://post.saltmarsh.example",
			"nobody has said at which URL sites reach this server")
	case strings.HasPrefix(c.URL, "http://"):
		return HTTPS.not(Attention, "public URL", "let a proxy, or the service itself, speak HTTPS there",
			"%s is not encrypted: passwords and keys can be read on the way", c.URL)
	case c.Trouble != "" && c.Renewal != "":
		return HTTPS.not(Wrong, "public URL", "mend what the authority says; it is asked again by itself", "%s: %s. %s", c.URL, c.Trouble,
			c.Renewal)
	case c.Trouble != "":
		return HTTPS.not(Wrong, "public URL", renew, "%s: %s", c.URL, c.Trouble)
	case c.Renewal != "":
		return HTTPS.not(Attention, "public URL", "mend what the authority says; it is asked again by itself",
			"%s: its certificate ends in %s. %s", c.URL, span(left), c.Renewal)
	case left < shortCert:
		return HTTPS.not(Attention, "public URL", renew, "%s: its certificate ends in %s", c.URL, span(left))
	}
	return HTTPS.good("public URL", "%s: certificate for %s, for another %s", c.URL, strings.Join(c.Names, ", "), span(left))
}

// Asked is what came of asking a resolver.
type Asked struct {
	At, Trouble string
	Took        time.Duration
}

// JudgeResolvers says whether resolvers answer.
func JudgeResolvers(list []Asked) []Point {
	if len(list) == 0 {
		return []Point{Resolver.not(Attention, "set", "give inkpost serve --resolver ADDRESS:53, of a resolver that is not yours",
			"none is set: nobody checks whether the world sees a new address")}
	}
	var out []Point
	for _, a := range list {
		if a.Trouble != "" {
			out = append(out, Resolver.not(Wrong, a.At, "name another one with --resolver", "does not answer: %s", a.Trouble))
			continue
		}
		out = append(out, Resolver.good(a.At, "answers in %s", span(a.Took)))
	}
	return out
}
