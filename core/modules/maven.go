package modules

import (
	"encoding/xml"
	"os"
	"path"
	"strings"

	"ellwand.example/core/fact"
)

// maven is a build tool of Java. It has no lock file: what it downloads is recorded, and
// pinned by the archive alone.
var maven = Language{
	Name:    "maven",
	Locks:   []string{"pom.xml"},
	Make:    "it describes a project",
	Command: "mvn",
	// What it notes beside the files has the time of the download and the address in it.
	Download: `keytool -importcert -noprompt -alias proxy -file "$SSL_CERT_FILE" -keystore "$HOME/trust" -storepass proxied 2>/dev/null
mkdir -p "$HOME/.m2"
if test -n "${REGISTRY:-}"; then
	printf '<settings><mirrors><mirror><id>configured</id><mirrorOf>*</mirrorOf><url>%s</url></mirror></mirrors></settings>\n' "$REGISTRY" >"$HOME/.m2/settings.xml"
fi
mvn --batch-mode -Dmaven.repo.local="$HOME/maven" dependency:go-offline
find "$HOME/maven" \( -name '*.lastUpdated' -o -name _remote.repositories -o -name resolver-status.properties -o -name 'maven-metadata-*' \) -delete`,
	Keep:     []string{"home/maven"},
	Registry: func(address string) map[string]string { return map[string]string{"REGISTRY": address} },
	Online: func(home string) map[string]string {
		return map[string]string{"MAVEN_OPTS": "-Duser.home=" + home + " -Djavax.net.ssl.trustStore=" + home + "/trust -Djavax.net.ssl.trustStorePassword=proxied " +
			"-Dhttp.proxyHost=127.0.0.1 -Dhttp.proxyPort=8080 -Dhttps.proxyHost=127.0.0.1 -Dhttps.proxyPort=8080"}
	},
	Offline: func(home string) map[string]string {
		return map[string]string{"MAVEN_OPTS": "-Duser.home=" + home + " -Dmaven.repo.local=" + home + "/maven", "MAVEN_ARGS": "--offline"}
	},
	list: func(tree *os.Root, _ string, _ []byte) ([]fact.Module, error) {
		var all []fact.Module
		err := walk(tree, "home/maven", func(file string) error {
			if path.Ext(file) != ".pom" {
				return nil
			}
			// GROUP/WITH/SLASHES/NAME/VERSION/NAME-VERSION.pom
			dir := path.Dir(strings.TrimPrefix(file, "home/maven/"))
			version, dir := path.Base(dir), path.Dir(dir)
			name, group := path.Base(dir), strings.ReplaceAll(path.Dir(dir), "/", ".")
			var pom struct {
				Licenses []struct {
					Name string `xml:"name"`
				} `xml:"licenses>license"`
			}
			license := ""
			if xml.Unmarshal(readText(tree, file), &pom) == nil && len(pom.Licenses) == 1 {
				license = pom.Licenses[0].Name
			}
			all = append(all, fact.Module{Name: group + ":" + name, Version: version, URL: packageURL("maven", group+"/"+name, version), License: license})
			return nil
		})
		return all, err
	},
}
