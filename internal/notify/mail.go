package notify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"

	"github.com/wneessen/go-mail"
)

// mail sends notices as one mail. TLS is asked for always, and may be missing at home alone.
func (k *Keeper) mail(ctx context.Context, to household.Notice, secret string, list []notice.Notice) error {
	ctx, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	host, port, atOnce, err := to.MailServer()
	if err != nil {
		return err
	}
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.From(to.From), m.To(to.Recipients...)); err != nil {
		return err
	}
	m.Subject(notice.Subject(k.House, list))
	m.SetMessageIDWithValue(strings.ToLower(list[0].ID) + "@cozyshelf")
	m.SetDateWithValue(list[len(list)-1].At.In(k.Zone))
	m.SetGenHeader("Auto-Submitted", "auto-generated")
	m.SetBodyString(mail.TypeTextPlain, notice.Text(list, k.Zone))
	policy := mail.TLSMandatory
	if household.AtHome(host) && to.User == "" {
		policy = mail.TLSOpportunistic
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(patience), mail.WithTLSPolicy(policy),
		mail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: k.Roots})}
	if atOnce {
		options = append(options, mail.WithSSL())
	}
	if to.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(to.User),
			mail.WithPassword(secret))
	}
	c, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return plainly(c.DialAndSendWithContext(ctx, m))
}

// plainly says in plain words why somebody could not be reached, where that is known.
func plainly(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var unknown x509.UnknownAuthorityError
	var name *net.DNSError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("it does not answer within %s", patience)
	case errors.As(err, &unknown):
		return errors.New("its certificate is of an authority that is not trusted")
	case errors.As(err, &name) && name.IsNotFound:
		return fmt.Errorf("there is no host %s", name.Name)
	}
	return err
}
