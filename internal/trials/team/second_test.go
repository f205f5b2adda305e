package team_test

import (
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
)

func TestASecondFactorIsAskedForAndWorksOnce(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	made, err := visit.NewTOTP(ctx)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(made.URL, "otpauth://totp/Ink%20Post:owner?issuer=Ink%20Post&secret="+made.Secret), made.URL)
	code, err := totp.GenerateCode(made.Secret, time.Now().Add(-30*time.Second))
	require.NoError(t, err)
	_, err = visit.KeepTOTP(ctx, contract.TOTPInput{Secret: made.Secret, Code: code, Password: "not that"})
	require.ErrorContains(t, err, "is not the password that you have now")
	_, err = visit.KeepTOTP(ctx, contract.TOTPInput{Secret: made.Secret, Code: "000000x", Password: s.Password})
	require.ErrorContains(t, err, "is not what the authenticator shows")
	codes, err := visit.KeepTOTP(ctx, contract.TOTPInput{Secret: made.Secret, Code: code, Password: s.Password})
	require.NoError(t, err)
	require.Len(t, codes.Codes, 10)

	_, err = anonymous.SignIn(ctx, "owner", s.Password)
	require.True(t, client.NeedsSecond(err), "%v", err)
	try := func(code string) error {
		_, err := anonymous.SignInAs(ctx, contract.SignIn{Name: "owner", Password: s.Password, Code: code})
		return err
	}
	require.ErrorContains(t, try(code), "wrong name or password", "it was used when it was set up")
	next, err := totp.GenerateCode(made.Secret, time.Now())
	require.NoError(t, err)
	var wait sync.WaitGroup
	results := make([]error, 3)
	for i := range results { // overheard, and used again at once
		wait.Go(func() { results[i] = try(next) })
	}
	wait.Wait()
	good := 0
	for _, err := range results {
		if err == nil {
			good++
		}
	}
	require.Equal(t, 1, good, "%v", results)
	require.NoError(t, try(strings.ToLower(codes.Codes[3])))
	require.Error(t, try(codes.Codes[3]), "a recovery code works once")
	require.ErrorContains(t, try("AAAA-AAAA-AAAA-AAAA"), "too many failed tries", "who guesses codes has to wait")
	var again *client.Visit
	require.Eventually(t, func() bool {
		again, err = anonymous.SignInAs(ctx, contract.SignIn{Name: "owner", Password: s.Password, Code: codes.Codes[4]})
		return err == nil
	}, 10*time.Second, 100*time.Millisecond)
	seconds, err := again.Seconds(ctx)
	require.NoError(t, err)
	require.Equal(t, 8, seconds.RecoveryCodes)
	require.NoError(t, again.DropTOTP(ctx, s.Password))
	_, err = anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
}

func TestWhoLostTheirAuthenticatorIsHelpedAtTheDatabase(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *testbed.Options) { o.Database = database })
	ctx := t.Context()
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	made, err := visit.NewTOTP(ctx)
	require.NoError(t, err)
	code, err := totp.GenerateCode(made.Secret, time.Now())
	require.NoError(t, err)
	_, err = visit.KeepTOTP(ctx, contract.TOTPInput{Secret: made.Secret, Code: code, Password: s.Password})
	require.NoError(t, err)
	password, err := daemon.ResetPassword(ctx, database, "owner", false, false)
	require.NoError(t, err)
	_, err = anonymous.SignIn(ctx, "owner", password)
	require.True(t, client.NeedsSecond(err), "a new password alone takes nothing away: %v", err)
	password, err = daemon.ResetPassword(ctx, database, "owner", false, true)
	require.NoError(t, err)
	visit, err = anonymous.SignIn(ctx, "owner", password)
	require.NoError(t, err)
	require.True(t, visit.ChoosePassword())
	require.Len(t, acts(t, s.Client, "kind", "owner.reset"), 2)
}

func TestOwnersHaveToHaveASecondFactorWhereThatIsSet(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	technician, c := s.Join(t, "dispatch", team.Technician)
	_, err := c.SetSettings(ctx, contract.Settings{OwnersNeedSecond: true})
	require.True(t, client.IsStatus(err, http.StatusForbidden), "%v", err)
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	_, err = s.Client.SetSettings(ctx, contract.Settings{OwnersNeedSecond: true})
	require.NoError(t, err)
	_, err = visit.AddKey(ctx, "x")
	require.ErrorContains(t, err, "owners need a second factor here")
	_, err = technician.AddKey(ctx, "x")
	require.NoError(t, err, "others need none")
	made, err := visit.NewTOTP(ctx)
	require.NoError(t, err)
	code, err := totp.GenerateCode(made.Secret, time.Now())
	require.NoError(t, err)
	_, err = visit.KeepTOTP(ctx, contract.TOTPInput{Secret: made.Secret, Code: code, Password: s.Password})
	require.NoError(t, err)
	_, err = visit.AddKey(ctx, "x")
	require.NoError(t, err)
}
