package reach

import (
	"fmt"
	"strings"
)

// Meaning says when a cause is told.
type Meaning struct {
	Cause Cause
	Stage Stage
	When  string
}

// Meanings are all causes, in the order of the stages.
var Meanings = []Meaning{
	{BadAddress, StageName, "the URL or the address cannot be one"},
	{NameUnknown, StageName, "no name server knows the name"},
	{NameSilent, StageName, "no name server answers"},
	{NoAddress, StageName, "the name is known and has no address"},
	{Refused, StageTCP, "the machine answers, and nothing listens on the port"},
	{TimedOut, StageTCP, "nothing answers, not even with a refusal"},
	{HostUnreachable, StageTCP, "no machine answers for the address on its network"},
	{NetUnreachable, StageTCP, "this machine has no route there"},
	{IPv6Only, StageTCP, "the broker has IPv6 addresses only, and this machine no IPv6"},
	{NotAllowed, StageTCP, "this machine's own rules forbid it"},
	{NoSocket, StageTCP, "a local socket is not there, or nothing listens on it"},
	{TCPFailed, StageTCP, "any other error of the system"},
	{ResetOnAccept, StageTCP, "the connection is taken and reset at once"},
	{ClosedOnAccept, StageTCP, "the connection is taken and closed at once, before a word is said"},
	{SilentServer, StageConnect, "something takes the connection, and answers neither MQTT nor TLS nor HTTP"},
	{HTTPServer, StageConnect, "a web server answers, plain or over TLS"},
	{OtherProtocol, StageConnect, "a server of another protocol answers"},
	{PlainToTLS, StageConnect, "the port wants TLS, and the URL has none"},
	{TLSToPlain, StageTLS, "the URL wants TLS, and the port is plain"},
	{MQTTToWebSocket, StageConnect, "the port takes WebSocket only"},
	{WebSocketToMQTT, StageUpgrade, "the port takes MQTT without WebSocket"},
	{TLSVersion, StageTLS, "server and client have no version of TLS in common"},
	{TLSSuites, StageTLS, "they have no cipher suite in common"},
	{TLSPSK, StageTLS, "the server has no certificate, and wants a pre-shared key"},
	{TLSName, StageTLS, "the server knows no host of that name (SNI)"},
	{TLSALPN, StageTLS, "the server wants the protocol to be named by ALPN"},
	{TLSFailed, StageTLS, "the handshake fails for another reason"},
	{CertExpired, StageTLS, "the server's certificate has expired"},
	{CertNotYet, StageTLS, "it is not valid yet"},
	{CertWrongName, StageTLS, "it is for another name"},
	{CertSelfSigned, StageTLS, "it is self-signed, and not given as CA"},
	{CertIncomplete, StageTLS, "the server leaves its intermediate out"},
	{CertUnknownCA, StageTLS, "its CA is not among those given"},
	{CertRenewedCA, StageTLS, "its CA has the name of one given, and another key"},
	{CertRefused, StageTLS, "it cannot be used for another reason, such as being for clients"},
	{ClientCertWanted, StageTLS, "the server wants a client certificate, and none was given"},
	{ClientCertOld, StageTLS, "ours has expired, or is not valid yet"},
	{ClientCertCA, StageTLS, "the server does not know the CA of ours"},
	{ClientCertUse, StageTLS, "ours is not meant for clients"},
	{ClientCertKey, StageTLS, "ours does not belong to its key"},
	{ClientCertRevoke, StageTLS, "ours is revoked"},
	{ClientCertBad, StageTLS, "the server does not take ours, and does not say why"},
	{WrongPath, StageUpgrade, "the server offers MQTT at another path, or has nothing at this one"},
	{NoSubprotocol, StageUpgrade, "the server upgrades without agreeing to the subprotocol mqtt"},
	{OldSubprotocol, StageUpgrade, "it agrees to mqttv3.1 only"},
	{HTTPLogin, StageUpgrade, "the web server in front wants a login of its own"},
	{HTTPRedirect, StageUpgrade, "the web server sends us elsewhere"},
	{HTTPGateway, StageUpgrade, "the web server does not reach the broker behind it"},
	{NoUpgrade, StageUpgrade, "the web server does not upgrade"},
	{NoConnack, StageConnect, "the link stands, and no CONNACK comes"},
	{HalfConnack, StageConnect, "CONNACK breaks off"},
	{BrokenConnack, StageConnect, "CONNACK breaks the standard"},
	{NotConnack, StageConnect, "another packet comes in its place"},
	{ClosedNoConnack, StageConnect, "the broker ends the link without CONNACK"},
	{Unsteady, StageConnect, "the very same client is refused, and let in when it comes again"},
	{Version, StageConnect, "the broker does not speak this version of MQTT"},
	{ClientID, StageConnect, "it does not take the client identifier"},
	{LoginWanted, StageConnect, "it refuses, and no login was given"},
	{WrongLogin, StageConnect, "user name or password are wrong"},
	{NotAuthorised, StageConnect, "the client may not connect; in 3.1.1 often a wrong password"},
	{Unavailable, StageConnect, "the service is not available"},
	{Busy, StageConnect, "the broker is busy"},
	{Banned, StageConnect, "the client is banned"},
	{AuthMethod, StageConnect, "the authentication method is unknown, or one is wanted"},
	{Quota, StageConnect, "the broker has as many clients as it may have"},
	{Rate, StageConnect, "clients come faster than it allows"},
	{WillRefused, StageConnect, "it does not take the will"},
	{TooLarge, StageConnect, "CONNECT is too large for it"},
	{BadPacket, StageConnect, "it could not read CONNECT"},
	{ServerMoved, StageConnect, "it names another server to use"},
	{UnknownCode, StageConnect, "it refuses with a code that the standard does not have for CONNACK"},
	{ServerError, StageConnect, "it refuses for a reason of its own"},
	{ThrownOut, StageRoundTrip, "it lets the client in and ends the link right after"},
	{Cancelled, "", "the trial was stopped"},
}

// Reference writes the causes as a document.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Why a client does not get in\n\n`hodstone reach --json` names the cause of a failure as `cause` of the address; the words beside it carry the particulars, and `remedy` what to try next. The set is fixed, so that scripts can\nask for it. This page is written by `make docs` from `internal/reach/reference.go`.\n\n| cause | stage | when |\n|---|---|---|\n")
	for _, m := range Meanings {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", m.Cause, m.Stage, m.When)
	}
	return b.String()
}
