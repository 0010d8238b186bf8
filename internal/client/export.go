package client

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
)

// export writes the rows of an input's last delivery to a file, or to the output.
func export(ctx context.Context, c *Call) error {
	c.connected()
	name := c.Flags.String("o", "", "write to this `file`, whose ending says the format; to the output if empty")
	as := c.Flags.String("as", "", "`format`: delimited, workbook, json_lines, xml or parquet")
	where := c.Flags.String("where", "", "only rows for which this `condition` on the columns holds")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	if *as == "" {
		*as = string(definition.Delimited)
		if *name != "" {
			if *as = string(definition.FormatOf(*name)); *as == "" {
				return Usage("the ending of %q says no format; say -as", *name)
			}
		}
	}
	if !slices.Contains([]string{"delimited", "workbook", "json_lines", "xml", "parquet"}, *as) {
		return Usage("no format is named %q; write delimited, workbook, json_lines, xml or parquet", *as)
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.GetTableContent(ctx, args[0], &api.GetTableContentParams{As: *as, Where: *where})
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if *name == "" {
		_, err := io.Copy(c.Stdout, answer.Body)
		return broken(err)
	}
	// The file is there whole or not at all.
	f, err := os.CreateTemp(filepath.Dir(*name), ".jorvex-export-*")
	if err != nil {
		return &exitError{code: Failed, message: fmt.Sprintf("the file cannot be written: %v", err)}
	}
	size, err := io.Copy(f, answer.Body)
	if errClose := f.Close(); err == nil {
		err = errClose
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err == nil {
		err = os.Rename(f.Name(), *name)
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return broken(err)
	}
	fmt.Fprintf(c.Stdout, "%s: %s\n", *name, c.bytes(size))
	return nil
}

func broken(err error) error {
	if err == nil {
		return nil
	}
	return &exitError{code: Failed, message: fmt.Sprintf("the export broke off: %v; nothing was written", err)}
}
