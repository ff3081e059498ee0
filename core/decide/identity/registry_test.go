package identity

import (
	"bufio"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRegistryOfMACBlocks(t *testing.T) {
	got := readRegistry(bufio.NewScanner(strings.NewReader("OUI/MA-L\t\tOrganization\n00-00-5E   (hex)\t\tDocumentation\n00005E     " +
		"(base 16)\t\tDocumentation\nnonsense (hex)\n")))
	assert.Equal(t, map[string]string{"00-00-5E": "Documentation"}, got)
	assert.Empty(t, MACBlock(""), "without an address there is no block")
	assert.Empty(t, MACBlock("02:00:00:00:00:01"), "a made-up address belongs to nobody")
	assert.NotPanics(t, func() { MACBlock("00:00:5e:00:53:01") }, "whether the system has the registry or not")
}
