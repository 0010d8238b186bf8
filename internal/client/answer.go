package client

import (
	"context"
	"fmt"

	"jorvex/internal/api"
)

// replay runs a refresh again out of the vault.
func replay(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	number, err := numbered(args[0], "receipt")
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ReplayReceiptWithResponse(ctx, number)
	if err != nil {
		return err
	}
	r := answer.JSON200
	message := ""
	if !r.Same {
		message = fmt.Sprintf("receipt %d does not come to the same again; it was made by jorvex %s, and this is %s", r.Receipt, r.Program, c.Version)
	}
	if len(r.Missing) > 0 {
		message = fmt.Sprintf("receipt %d cannot be replayed: the vault does not keep %s any more, the first is %s", r.Receipt, plural(len(r.Missing), "file"), r.Missing[0])
	}
	switch {
	case c.json:
		if err := c.printJSON(r); err != nil {
			return err
		}
		message = ""
	case len(r.Missing) == 0:
		fmt.Fprintf(c.Stdout, "receipt %d again: %s, of the receipt %s\n", r.Receipt, plural(r.Rows, "row"), c.number(r.RowsHad))
		t := columns("", "delivery", "digest", "again")
		for _, d := range r.Deliveries {
			same := "the same"
			if d.Digest != d.DigestHad {
				same = "ANOTHER: " + short(d.Digest)
			}
			t.row(d.Kind, d.Name, short(d.DigestHad), same)
		}
		t.indent = "  "
		t.print(c.Stdout)
	}
	if !r.Same {
		return &exitError{code: Failed, message: message}
	}
	return nil
}

func short(digest string) string {
	if len(digest) > 12 {
		return digest[:12]
	}
	return digest
}

// verify recomputes the chain, and on request what it rests on.
func verify(ctx context.Context, c *Call) error {
	c.connected()
	deep := c.Flags.Bool("deep", false, "read everything that receipts name in the vault through, too")
	deliveries := c.Flags.Bool("deliveries", false, "hold delivered files and tables against their last receipts, too")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.VerifyReceiptsWithResponse(ctx, &api.VerifyReceiptsParams{Deep: *deep, Deliveries: *deliveries})
	if err != nil {
		return err
	}
	v := answer.JSON200
	if c.json {
		if err := c.printJSON(v); err != nil || v.Holds {
			return err
		}
		return &exitError{code: Failed}
	}
	switch {
	case v.FirstBroken > 0:
		return &exitError{code: Failed, message: fmt.Sprintf("the chain is broken: receipt %d does not hold: %s; the %d before it do", v.FirstBroken, v.Why, v.Checked)}
	case v.Why != "":
		return &exitError{code: Failed, message: v.Why}
	case v.Checked == 0:
		fmt.Fprintln(c.Stdout, "there is no receipt yet")
		return nil
	}
	fmt.Fprintf(c.Stdout, "the chain holds: %s, the last has digest %s\n", plural(v.Checked, "receipt"), v.Head)
	if v.Handovers > 0 {
		fmt.Fprintf(c.Stdout, "so does that of %s\n", plural(v.Handovers, "handover record"))
	}
	if *deep && len(v.Troubles) == 0 {
		fmt.Fprintf(c.Stdout, "the vault holds: %s read through\n", plural(v.Objects, "object"))
	}
	if v.Freed > 0 {
		fmt.Fprintf(c.Stdout, "%s had been freed; what they fed cannot be replayed\n", plural(v.Freed, "object"))
	}
	for _, t := range v.Troubles {
		fmt.Fprintf(c.Stdout, "%s: %s\n  %s cannot be replayed, from %d to %d\n", t.What, t.Why, plural(t.Receipts, "receipt"), t.First, t.Last)
	}
	wrong := 0
	for _, d := range v.Deliveries {
		if d.Why != "" {
			wrong++
			fmt.Fprintf(c.Stdout, "%s %s, receipt %d: %s\n", d.Kind, d.Name, d.Receipt, d.Why)
		}
	}
	if *deliveries && wrong == 0 {
		fmt.Fprintf(c.Stdout, "the deliveries hold: %s as delivered last\n", plural(len(v.Deliveries), "delivery"))
	}
	switch {
	case len(v.Troubles) > 0:
		return &exitError{code: Failed, message: "the vault does not hold all that receipts name; restore it from a backup"}
	case wrong > 0:
		return &exitError{code: Failed, message: fmt.Sprintf("%s not as delivered; refresh to make them anew (drop a table first that is loaded by changed files)", plural(wrong, "delivery"))}
	}
	return nil
}

// vault shows and sets how long bytes are kept.
func vault(ctx context.Context, c *Call) error {
	c.connected()
	days := c.Flags.Int("days", 0, "keep the bytes of receipts younger than so many `days`; 0 for no such bound")
	count := c.Flags.Int("count", 0, "keep those of the newest so many `receipts` of each input; 0 for no such bound")
	all := c.Flags.Bool("all", false, "keep all, as it is without any bound")
	yes := c.Flags.Bool("yes", false, "set it, and free the others now; without, only what would be freed is shown")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if *all && (*days > 0 || *count > 0) {
		return Usage("keep all, or say how many; not both")
	}
	asked := *all || *days > 0 || *count > 0
	if *yes && !asked {
		return Usage("say what is to be kept: -days, -count or -all")
	}
	var r *api.Retention
	if *yes {
		answer, err := service.SetRetentionWithResponse(ctx, api.SetRetentionJSONRequestBody{Days: *days, Count: *count})
		if err != nil {
			return err
		}
		r = answer.JSON200
	} else {
		answer, err := service.GetRetentionWithResponse(ctx, &api.GetRetentionParams{Days: *days, Count: *count})
		if err != nil {
			return err
		}
		r = answer.JSON200
	}
	if c.json {
		return c.printJSON(r)
	}
	fmt.Fprintln(c.Stdout, "kept: "+keptWords(r.Days, r.Count))
	freed := "would be freed"
	if *yes {
		freed = "freed"
	}
	fmt.Fprintf(c.Stdout, "%s: %s, %s on the disk\n", freed, plural(r.Objects, "object"), c.bytes(r.Bytes))
	for _, l := range r.Lost {
		fmt.Fprintf(c.Stdout, "  %s: %s up to %d can then no longer be replayed\n", l.Input, plural(l.Receipts, "receipt"), l.Last)
	}
	if asked && !*yes {
		fmt.Fprintln(c.Stdout, "nothing was freed; add -yes to")
	}
	return nil
}

func keptWords(days, count int) string {
	switch {
	case days == 0 && count == 0:
		return "the bytes of all receipts"
	case count == 0:
		return fmt.Sprintf("the bytes of receipts younger than %s, and of the newest", plural(days, "day"))
	case days == 0:
		return fmt.Sprintf("the bytes of the newest %s of each input", plural(count, "receipt"))
	}
	return fmt.Sprintf("the bytes of receipts younger than %s, and of the newest %s of each input", plural(days, "day"), plural(count, "receipt"))
}
