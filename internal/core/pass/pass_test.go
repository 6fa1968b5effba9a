package pass

import (
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
)

func TestCompile(t *testing.T) {
	for _, c := range []struct {
		pass config.Pass
		want string
	}{
		{config.Pass{}, ""},
		{config.Pass{VLAN: "20"}, "Tunnel-Type=VLAN:40060000000D Tunnel-Medium-Type=IEEE-802:410600000006 Tunnel-Private-Group-ID=20:51043230"},
		{config.Pass{VLAN: "crew"}, "Tunnel-Type=VLAN:40060000000D Tunnel-Medium-Type=IEEE-802:410600000006 Tunnel-Private-Group-ID=crew:510663726577"},
		{config.Pass{SessionTimeout: 3600, Role: "x"}, "Session-Timeout=3600:1B0600000E10 Filter-Id=x:0B0378"},
		{config.Pass{Attributes: []config.Attribute{{Name: "class", Value: "a"}, {Name: "Class", Value: "b"}}}, "Class=a:190361 Class=b:190362"},
		{config.Pass{Attributes: []config.Attribute{{Name: "Vendor-Specific", Value: "32473:1:0x0a"}}}, "Vendor-Specific=32473:1:0x0a:1A0900007ED901030A"},
	} {
		reply, problems := Compile(&c.pass)
		got := ""
		for _, a := range reply.Texts() {
			got += a.Name + "=" + a.Value + ":" + a.Hex + " "
		}
		if strings.TrimSpace(got) != c.want || len(problems) > 0 {
			t.Errorf("%+v becomes\n%s\nwanted\n%s\n%v", c.pass, got, c.want, problems)
		}
	}
}
