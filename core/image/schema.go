package image

import (
	"maps"
	"slices"

	"ellwand.example/core/recipe/document"
)

// descriptions say what each key is for. Items of arrays and values of tables are not in
// the path: file.mode, account.home.
var descriptions = map[string]string{
	"format":       "The number of the format: 1",
	"summary":      "What the image is for, in one line",
	"packages":     "Packages, with bounds on their versions: \"tidegauge >= 2.0\"; what they need comes with them",
	"manifest":     "A JSON file beside the description with further packages: name, version, digest",
	"targets":      "The targets to make the image for; the workspace's if omitted",
	"system":       "What is below the packages: none, a directory, an archive, an OCI layout or a reference in a registry; none if omitted",
	"repositories": "Repositories of the packages; the enabled ones if omitted. Packages that the workspace has built always count",
	"channel":      "The channel of these repositories; the configured ones if omitted",
	"without":      "Kinds of path that are left out: documentation, translation, translation=LANGUAGE",
	"suggestions":  "true installs what the packages suggest, too",
	"forms":        "What is made: oci, archive, disk, iso; an OCI image if omitted",
	"environment":  "Environment variables",
	"labels":       "Labels (annotations) of the OCI image",

	"run":           "What a container of the image runs",
	"run.command":   "The program and its arguments",
	"run.arguments": "Further arguments, which may be replaced when it is started",
	"run.user":      "The account that it runs as; root if omitted",
	"run.directory": "The working directory",
	"run.ports":     "Ports that it listens on, such as \"8080\" or \"53/udp\"",
	"run.volumes":   "Directories whose contents outlive a container",
	"run.stop":      "The signal that ends it; SIGTERM if omitted",

	"file":            "Files to add",
	"file.path":       "Where it is in the image",
	"file.from":       "A file beside the description with the contents",
	"file.text":       "Or the contents themselves",
	"file.mode":       "Octal digits; 0644 if omitted",
	"file.owner":      "The name of an account; root if omitted",
	"file.group":      "The name of a group; root if omitted",
	"directory":       "Directories to add",
	"directory.path":  "Where it is in the image",
	"directory.mode":  "Octal digits; 0755 if omitted",
	"directory.owner": "The name of an account; root if omitted",
	"directory.group": "The name of a group; root if omitted",
	"link":            "Symbolic links to add",
	"link.path":       "Where it is in the image",
	"link.target":     "What it leads to",
	"account":         "System accounts to create",
	"account.home":    "The account's home directory",
	"account.summary": "What the account is for",

	"oci":                 "The OCI image",
	"oci.compression":     "Of its layers: gzip or zstd; gzip if omitted",
	"oci.archive":         "true also writes the image as one tar file",
	"oci.reference":       "What it is called, such as \"registry.example/stations/tidegauge:1.0\"",
	"boot":                "Of forms that boot",
	"boot.command":        "Words for the kernel's command line",
	"boot.memory":         "Of the virtual machine that runs the image; \"1 GiB\" if omitted",
	"disk":                "The disk that boots",
	"disk.size":           "Of its root file system; what its files need, and some room, if omitted",
	"disk.filesystem":     "ext4, or squashfs, which is only read; ext4 if omitted",
	"disk.format":         "raw or qcow2; raw if omitted",
	"archive":             "The archive of all files",
	"archive.compression": "zstd, gzip or none; zstd if omitted",

	"trial":      "How the image is tried",
	"trial.run":  "A shell script that runs in the image, and fails if it does not work",
	"trial.time": "How long it may take; 5m if omitted",
}

// Schema returns a JSON Schema (draft 2020-12) of descriptions, for editors.
func Schema() ([]byte, error) {
	return document.Schema(&Description{}, document.SchemaText{
		Title: "Ellwand image, format 1", Required: []string{"format"}, Descriptions: descriptions,
		Words: map[string][]string{"forms": Forms, "oci.compression": compressedLayers, "archive.compression": {Zstd, Gzip, None}, "disk.filesystem": {Ext4, Squashfs}, "disk.format": {Raw, Qcow2}},
	})
}

// Keys lists every key of a description, with dots between those of tables.
func Keys() []string { return slices.Sorted(maps.Keys(descriptions)) }
