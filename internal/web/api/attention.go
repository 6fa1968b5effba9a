package api

import (
	"fmt"

	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/web/apitype"
)

// attentionView says an item in words.
func attentionView(i *attention.Item) apitype.Attention {
	out := apitype.Attention{Code: string(i.Code), Severity: string(i.Severity), Kind: i.Kind, ID: i.ID,
		Params: i.Params, Action: "Open " + i.Kind}
	if i.Kind == "" {
		out.Action = ""
	}
	p := i.Params
	switch i.Code {
	case attention.ClientFault, attention.StrangerAsks:
		sentence, remedy := sources.Fault(p["fault"]).Words()
		out.Title = p["client"] + " " + sentence
		if i.Code == attention.StrangerAsks {
			out.Title, out.Action = p["address"]+" "+sentence, "Add client"
		}
		out.Text = fmt.Sprintf("%s requests from %s since %s. %s", p["count"], p["address"], p["since"], remedy)
	case attention.EmergencyUsed:
		out.Title = fmt.Sprintf("Emergency account %s was used", p["account"])
		out.Text = fmt.Sprintf(
			"First at %s on %s, %s times since. Find out by whom, and seal it again: that gives "+
				"it a new password.",
			p["at"],
			p["client"],
			p["count"],
		)
	case attention.FactorAlarm:
		from := ""
		if p["from"] != "" {
			from = " from " + p["from"]
		}
		out.Action = "Open second factors"
		out.Title = fmt.Sprintf("%s says of a sign-in: this is not me", p["person"])
		out.Text = fmt.Sprintf(
			"At %s, through %s%s. Whoever signed in there knows the password: have it changed. Release "+
				"the second factor of %s when that is done.",
			p["at"],
			p["client"],
			from,
			p["person"],
		)
	case attention.RecordsLost, attention.RecordsFail, attention.RecordsHeld, attention.RecordsDamaged,
		attention.ClockSet, attention.DiskLow, attention.DiskShort, attention.DiskSheds:
		machineView(&out, i.Code, p)
	case attention.NodesCutOff, attention.NodeRemoved, attention.NodesStuck, attention.NodeSilent,
		attention.NodeEngine, attention.NodeClock, attention.NodesPair, attention.CodesTwice:
		nodeView(&out, i.Code, p)
	case attention.AuditWaits:
		out.Title = p["waiting"] + " lines of the audit cannot be written now"
		out.Text = "They wait in memory, and are recorded when the disk takes them. What has to be recorded before " +
			"it is done, such as an export, is refused meanwhile."
		if p["lost"] != "0" {
			out.Text += " " + p["lost"] + " are lost."
		}
	case attention.FeedStuck:
		out.Title = fmt.Sprintf("Nothing can be sent on to %s", p["name"])
		if i.Kind == "remote" {
			out.Title = fmt.Sprintf("Accounting cannot be forwarded to %s", p["name"])
		}
		out.Text = fmt.Sprintf("Since %s: %s. What is recorded meanwhile is sent later.", p["since"], p["fault"])
	case attention.RemoteSilent:
		out.Title = fmt.Sprintf("%s of remote server %s does not answer", p["machine"], p["name"])
		out.Text = fmt.Sprintf("Since %s: %s.", p["since"], p["fault"])
	case attention.PresenceSilent:
		out.Title = fmt.Sprintf("The source %s reports nothing any more", p["name"])
		out.Text = "What it said of people ends when its time is over. "
		if i.Kind == "subscriber" {
			out.Title = fmt.Sprintf("The subscriber %s follows no more", p["name"])
			out.Text = "It may decide by what is not true any more. "
		}
		out.Text += fmt.Sprintf("Since %s: %s.", p["since"], p["fault"])
	case attention.CheckFailed:
		out.Title, out.Text = p["subject"]+": "+p["title"], p["detail"]+". "+p["remedy"]
	case attention.CertificateEnds:
		out.Title = fmt.Sprintf("The %s %s expires in %s days", nameOfKind(i.Kind), p["name"], p["days"])
		out.Text = fmt.Sprintf("%s, valid until %s. Replace it before then; no restart is needed.", p["subject"],
			p["until"])
	case attention.CertificateEnded:
		out.Title = fmt.Sprintf("The %s %s has expired", nameOfKind(i.Kind), p["name"])
		out.Text = fmt.Sprintf("%s, valid until %s. Devices refuse it; replace it now.", p["subject"], p["until"])
	case attention.WeakMethods:
		out.Title = p["count"] + " lanes allow weak methods"
		if p["count"] == "1" {
			out.Title = "One lane allows weak methods"
		}
		out.Text = p["lanes"] + ": each lane shows what is exposed, and to whom."
	case attention.Problem:
		out.Title, out.Text = p["object"]+": "+p["message"], p["remedy"]
	}
	return out
}

// nameOfKind is what a kind of object is called in a sentence.
func nameOfKind(kind string) string {
	switch kind {
	case "trust":
		return "trust list"
	case "command-list":
		return "command list"
	}
	return kind
}
