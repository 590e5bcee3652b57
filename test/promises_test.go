package test

import (
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/signature"
	"innerladder/internal/wire"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// What a version must answer is confirmed, and what callers rely on is decided, in the console.
func TestTheConsoleKeepsPromises(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	b := look(t, h)
	reason := func(text string) browser.Action {
		return browser.Type(chromedp.CSS(`[role="dialog"] input[required]`), text)
	}
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("nothing is known yet", b.open("/models/heat-demand/versions/1"), sees("None are known"))
	b.do("confirming", press("Confirm what it answered in plant-north"), reason("checked by hand"),
		press("It is right"),
		sees("They were confirmed by runa"))
	v, err := h.runa.Version(t.Context(), "heat-demand@1")
	if err != nil || v.KnownAnswers == nil || v.KnownAnswers.By != "runa" {
		t.Fatalf("%+v, %v", v.KnownAnswers, err)
	}
	b.do("the contract", b.open("/endpoints/demand-hourly"), sees("What callers rely on"), sees("Contract 1"),
		press("Decide a new contract"), reason("nothing new"), press("Make it the contract"),
		sees("contract 1 of demand-hourly says"))
	model, _ := h.files(1.5)
	number := signature.Column{Name: "humidity", Type: signature.Number, Datatype: "FP32", Shape: []int64{-1}}
	third, err := h.runa.Register(t.Context(), wire.Registration{
		Model:     "heat-demand",
		Signature: &signature.Signature{Inputs: []signature.Column{number}, Outputs: []signature.Column{number}},
	}, client.Artifacts(model))
	must(t, err)
	_, err = h.runa.MakeContract(t.Context(), "demand-hourly", third.Ref, "humidity from 1 December")
	must(t, err)
	b.do("it comes by itself", b.open("/endpoints/demand-hourly"), sees("Contract 2, from @3"), sees("Contract 1"))
}
