package service

import (
	"cmp"
	"errors"
	"maps"
	"slices"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/internal/api"
)

// maxMachineFiles bounds the files that are handed in at once.
const maxMachineFiles = 5000

// importFiles makes a definition of a machine's own files, and judges them.
func (s *Service) importFiles(c *gin.Context) (any, error) {
	in, err := body[api.MachineFiles](c)
	if err != nil {
		return nil, err
	}
	if len(in.Files) == 0 {
		return nil, finding.New(finding.DefineBadValue, "", "no file was supplied").
			Do("supply the configuration files of a package client, or an archive of a " +
				"machine's /etc")
	}
	if len(in.Files) > maxMachineFiles {
		return nil, finding.New(finding.ContentTooLarge, "", "%d files were supplied; the "+
			"limit is %d",
			len(in.Files), maxMachineFiles).Do("supply only the configuration files of the " +
			"package client")
	}
	unpacking := definition.NewUnpacking()
	for _, name := range slices.Sorted(maps.Keys(in.Files)) {
		if err := c.Request.Context().Err(); err != nil {
			return nil, err // nobody waits for it any more
		}
		if definition.IsPacked(name) {
			err = unpacking.Unpack(families.All, in.Files[name])
		} else {
			err = unpacking.Add(name, in.Files[name])
		}
		if err != nil {
			f, _ := finding.From(err)
			f.Object = cmp.Or(f.Object, "file "+finding.Harmless(name))
			return nil, f
		}
	}
	i, err := definition.ReadMachine(families.All, unpacking.Files, "/", in.Architecture)
	if err != nil {
		return nil, err
	}
	found := i.Judge(families.All, s.now(), func(path string) ([]byte, error) {
		if data, ok := i.Files[path]; ok {
			return data, nil
		}
		return nil, errors.New("the file was not supplied")
	})
	if len(i.Set.Sources) == 0 && len(found) == 0 {
		return nil, finding.New(finding.DefineBadValue, "",
			"none of the files defines a package source").
			Do("supply sources.list and the files beside it, repository files, or pacman.conf, " +
				"by name or with their folders")
	}
	text, err := i.YAML()
	return api.Imported{Document: text, Files: i.Files, Sources: i.Set.Names("source"), Findings: found}, err
}
