package reach

import (
	"fmt"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/verdict"
)

// OwnCertificate is the certificate of the server's own HTTPS.
type OwnCertificate struct {
	From    string // home, files, acme
	Names   []string
	Missing []string
	Ends    time.Time
	Problem string
}

// origins are where certificates come from, in a sentence.
var origins = map[string]string{household.CertificateHome: "by the household's own authority",
	household.CertificateFiles: "from files", household.CertificateACME: "by the authority that is asked"}

// JudgeOwn judges the certificate of the server's own HTTPS.
func JudgeOwn(c OwnCertificate) verdict.Line {
	l := verdict.Line{What: "own HTTPS", Status: verdict.OK}
	names := strings.Join(c.Names, ", ")
	switch {
	case len(c.Names) == 0:
		l.Status, l.Says = verdict.Blocked, "there is no certificate: "+c.Problem
		l.Do = map[string]string{
			household.CertificateHome: "see to the state folder; a backup holds authority.pem",
			household.CertificateFiles: "see that both files under [remote.certificate] are there, belong together, and can " +
				"be read by the run-as account; the server looks every 5 seconds",
			household.CertificateACME: "see that the name stands for your line, and that port 80 or 443 of it leads here: " +
				"the authority looks; the server asks again by itself",
		}[c.From]
	case c.Problem != "":
		l.Status, l.Says = verdict.Warning, fmt.Sprintf("%s, until %s; %s", names, day(c.Ends), c.Problem)
		l.Do = "what is there is used meanwhile"
	default:
		l.Says = fmt.Sprintf("%s, %s, until %s", names, origins[c.From], day(c.Ends))
	}
	if len(c.Missing) > 0 && len(c.Names) > 0 {
		l.Details = append(l.Details, "not good for "+strings.Join(c.Missing, ", "))
		if c.From == household.CertificateHome {
			l.Details = append(l.Details,
				"the authority vouches for names in homes and those of this machine when it was made")
		}
	}
	return l
}
