/* A camera on gSOAP and the kernel's own IP stack, strict about every message it is
 * sent. It is driven by the tests of the whole job: device NIC MAC SERIAL [MANNER ...] */
#include <arpa/inet.h>
#include <ifaddrs.h>
#include <pthread.h>
#include <stdarg.h>
#include <sys/time.h>
#include <signal.h>
#include "soapH.h"
#include "Device.nsmap"
#include "wsseapi.h"
#include "wsddapi.h"
#include "httpda.h"

#define MAX 8
static struct { char name[64], password[128]; int level; } users[MAX];
static struct { char address[64], gateway[64], name[256], zone[128], dns[MAX][64], ntp[MAX][64]; int prefix, dhcp, bynet, summer, ndns, nntp, dnsauto; double offset; char next[64]; int nextprefix; } s;
static const char *nic, *mac, *serial;
static char other[64]; /* the address that its second port was given */
static int otherprefix;
static char **manners;
static int nmanners, instance;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;

static int is(const char *m) { for (int i = 0; i < nmanners; i++) if (!strcmp(manners[i], m)) return 1; return 0; }
/* has gives what comes after a manner and a colon. */
static const char *has(const char *m) { for (int i = 0; i < nmanners; i++) if (!strncmp(manners[i], m, strlen(m)) && manners[i][strlen(m)] == ':') return manners[i] + strlen(m) + 1; return NULL; }
static void note(const char *op, const char *what) { fprintf(stderr, "%s %s\n", op, what); fflush(stderr); }
static double now(void) { struct timeval t; gettimeofday(&t, NULL); return t.tv_sec + t.tv_usec / 1e6 + s.offset; }
static void run(const char *f, ...) { char c[512]; va_list a; va_start(a, f); vsnprintf(c, sizeof c, f, a); va_end(a); if (system(c)) note("failed", c); }

static int anyone(void) { for (int i = 0; i < MAX; i++) if (users[i].name[0] && users[i].level == tt__UserLevel__Administrator) return 0; return 1; }
static int find(const char *name) { for (int i = 0; name && i < MAX; i++) if (!strcmp(users[i].name, name)) return i; return -1; }

static int refused(struct soap *soap) {
	if (is("digest")) { soap->authrealm = "gate"; return 401; }
	return soap_sender_fault_subcode(soap, "\"http://www.onvif.org/ver10/error\":NotAuthorized", "Sender not authorized", NULL);
}

/* allowed lets in whoever has a password, and everyone while there is no administrator. */
static int allowed(struct soap *soap, int admin) {
	if (anyone() && !is("strict")) { soap_wsse_delete_Security(soap); return SOAP_OK; }
	int u = -1;
	if (is("digest")) {
		if (soap->authrealm && soap->userid && (u = find(soap->userid)) >= 0 && http_da_verify_post(soap, users[u].password)) u = -1;
	} else {
		const char *name = soap_wsse_get_Username(soap);
		if (name && (u = find(name)) >= 0 && soap_wsse_verify_Password(soap, users[u].password)) { note("wrong", "password"); u = -1; }
		soap_wsse_delete_Security(soap);
	}
	soap->error = SOAP_OK;
	if (u < 0 || (admin && users[u].level != tt__UserLevel__Administrator)) return refused(soap);
	return SOAP_OK;
}
#define MUST(admin) do { int e_ = allowed(soap, admin); if (e_) return e_; } while (0)
#define NEW(T, n) ((T *)soap_malloc_zero(soap, sizeof(T) * (n)))
static void *soap_malloc_zero(struct soap *soap, size_t n) { void *p = soap_malloc(soap, n); memset(p, 0, n); return p; }

int __tds__GetSystemDateAndTime(struct soap *soap, struct _tds__GetSystemDateAndTime *in, struct _tds__GetSystemDateAndTimeResponse *out) {
	(void)in;
	soap_wsse_delete_Security(soap);
	time_t t = (time_t)now();
	struct tm g; gmtime_r(&t, &g);
	struct tt__SystemDateTime *d = out->SystemDateAndTime = NEW(struct tt__SystemDateTime, 1);
	d->DateTimeType = s.bynet ? tt__SetDateTimeType__NTP : tt__SetDateTimeType__Manual;
	d->DaylightSavings = s.summer;
	d->TimeZone = NEW(struct tt__TimeZone, 1); d->TimeZone->TZ = s.zone;
	d->UTCDateTime = NEW(struct tt__DateTime, 1);
	d->UTCDateTime->Time = NEW(struct tt__Time, 1); d->UTCDateTime->Date = NEW(struct tt__Date, 1);
	d->UTCDateTime->Time->Hour = g.tm_hour; d->UTCDateTime->Time->Minute = g.tm_min; d->UTCDateTime->Time->Second = g.tm_sec;
	d->UTCDateTime->Date->Year = g.tm_year + 1900; d->UTCDateTime->Date->Month = g.tm_mon + 1; d->UTCDateTime->Date->Day = g.tm_mday;
	return SOAP_OK;
}

int __tds__SetSystemDateAndTime(struct soap *soap, struct _tds__SetSystemDateAndTime *in, struct _tds__SetSystemDateAndTimeResponse *out) {
	(void)out; MUST(1); note("write", "clock");
	if (in->TimeZone) snprintf(s.zone, sizeof s.zone, "%s", in->TimeZone->TZ);
	s.summer = in->DaylightSavings; s.bynet = in->DateTimeType == tt__SetDateTimeType__NTP;
	if (in->UTCDateTime) {
		struct tm g = {0};
		g.tm_hour = in->UTCDateTime->Time->Hour; g.tm_min = in->UTCDateTime->Time->Minute; g.tm_sec = in->UTCDateTime->Time->Second;
		g.tm_year = in->UTCDateTime->Date->Year - 1900; g.tm_mon = in->UTCDateTime->Date->Month - 1; g.tm_mday = in->UTCDateTime->Date->Day;
		s.offset += timegm(&g) - now();
	}
	return SOAP_OK;
}

int __tds__GetServices(struct soap *soap, struct _tds__GetServices *in, struct _tds__GetServicesResponse *out) {
	(void)in; soap_wsse_delete_Security(soap);
	static char *ns[] = {"http://www.onvif.org/ver10/device/wsdl", "http://www.onvif.org/ver10/media/wsdl", "http://www.onvif.org/ver10/recording/wsdl", "http://www.onvif.org/ver10/receiver/wsdl"};
	if (is("recorder")) ns[1] = "http://www.onvif.org/ver10/replay/wsdl";
	out->__sizeService = is("recorder") ? 4 : 2; out->Service = NEW(struct tds__Service, 4);
	for (int i = 0; i < out->__sizeService; i++) {
		char *x = NEW(char, 128); snprintf(x, 128, "http://%s/onvif/device_service", s.address);
		out->Service[i].Namespace = ns[i]; out->Service[i].XAddr = x; out->Service[i].Version = NEW(struct tt__OnvifVersion, 1); out->Service[i].Version->Major = 2;
	}
	return SOAP_OK;
}

int __tds__GetDeviceInformation(struct soap *soap, struct _tds__GetDeviceInformation *in, struct _tds__GetDeviceInformationResponse *out) {
	(void)in; MUST(0);
	out->Manufacturer = "Saltmarsh"; out->Model = "Gate Eye"; out->FirmwareVersion = "2.1"; out->SerialNumber = (char *)serial; out->HardwareId = "7";
	return SOAP_OK;
}

int __tds__GetUsers(struct soap *soap, struct _tds__GetUsers *in, struct _tds__GetUsersResponse *out) {
	(void)in; MUST(1);
	out->User = NEW(struct tt__User, MAX);
	for (int i = 0; i < MAX; i++) if (users[i].name[0]) { out->User[out->__sizeUser].Username = users[i].name; out->User[out->__sizeUser++].UserLevel = users[i].level; }
	return SOAP_OK;
}

static int give(struct soap *soap, struct tt__User *u, int create) {
	int at = find(u->Username);
	if (create ? at >= 0 : at < 0) return soap_sender_fault_subcode(soap, "\"http://www.onvif.org/ver10/error\":InvalidArgVal", "no such user, or one already", NULL);
	for (int i = 0; create && i < MAX; i++) if (!users[i].name[0]) { at = i; break; }
	snprintf(users[at].name, sizeof users[at].name, "%s", u->Username);
	snprintf(users[at].password, sizeof users[at].password, "%s", u->Password ? u->Password : "");
	users[at].level = u->UserLevel;
	return SOAP_OK;
}

int __tds__CreateUsers(struct soap *soap, struct _tds__CreateUsers *in, struct _tds__CreateUsersResponse *out) {
	(void)out;
	if (!anyone()) MUST(1); else soap_wsse_delete_Security(soap);
	note("write", "user");
	return give(soap, in->User, 1);
}

int __tds__SetUser(struct soap *soap, struct _tds__SetUser *in, struct _tds__SetUserResponse *out) { (void)out; MUST(1); note("write", "user"); return give(soap, in->User, 0); }

int __tds__GetScopes(struct soap *soap, struct _tds__GetScopes *in, struct _tds__GetScopesResponse *out) {
	(void)in; MUST(0);
	static char *fixed[] = {"onvif://www.onvif.org/type/video_encoder", "onvif://www.onvif.org/hardware/Gate_Eye"};
	out->__sizeScopes = 3; out->Scopes = NEW(struct tt__Scope, 3);
	for (int i = 0; i < 2; i++) { out->Scopes[i].ScopeDef = tt__ScopeDefinition__Fixed; out->Scopes[i].ScopeItem = fixed[i]; }
	out->Scopes[2].ScopeDef = tt__ScopeDefinition__Configurable; out->Scopes[2].ScopeItem = s.name;
	return SOAP_OK;
}

int __tds__SetScopes(struct soap *soap, struct _tds__SetScopes *in, struct _tds__SetScopesResponse *out) {
	(void)out; MUST(1); note("write", "name");
	for (int i = 0; i < in->__sizeScopes; i++) if (strstr(in->Scopes[i], "/name/")) snprintf(s.name, sizeof s.name, "%s", in->Scopes[i]);
	return SOAP_OK;
}

int __tds__GetNetworkInterfaces(struct soap *soap, struct _tds__GetNetworkInterfaces *in, struct _tds__GetNetworkInterfacesResponse *out) {
	(void)in; MUST(0);
	out->__sizeNetworkInterfaces = 1;
	struct tt__NetworkInterface *n = out->NetworkInterfaces = NEW(struct tt__NetworkInterface, 1);
	n->token = "port-1"; n->Enabled = 1; n->Info = NEW(struct tt__NetworkInterfaceInfo, 1); n->Info->Name = "port-1"; n->Info->HwAddress = (char *)mac;
	n->IPv4 = NEW(struct tt__IPv4NetworkInterface, 1); n->IPv4->Enabled = 1;
	struct tt__IPv4Configuration *c = n->IPv4->Config = NEW(struct tt__IPv4Configuration, 1);
	struct tt__PrefixedIPv4Address *a = NEW(struct tt__PrefixedIPv4Address, 1);
	a->Address = s.address; a->PrefixLength = s.prefix; c->DHCP = s.dhcp;
	if (s.dhcp) c->FromDHCP = a; else { c->__sizeManual = 1; c->Manual = a; }
	const char *second = has("second port");
	if (second) { /* "MAC ADDRESS" */
		struct tt__NetworkInterface *m = NEW(struct tt__NetworkInterface, 2);
		char *hw = NEW(char, 64), *at = NEW(char, 64);
		sscanf(second, "%63s %63s", hw, at);
		if (other[0]) at = other;
		m[0] = *n; m[1] = *n; m[1].token = "port-2";
		m[1].Info = NEW(struct tt__NetworkInterfaceInfo, 1); m[1].Info->Name = "port-2"; m[1].Info->HwAddress = hw;
		m[1].IPv4 = NEW(struct tt__IPv4NetworkInterface, 1); m[1].IPv4->Enabled = 1;
		m[1].IPv4->Config = NEW(struct tt__IPv4Configuration, 1); m[1].IPv4->Config->__sizeManual = 1;
		m[1].IPv4->Config->Manual = NEW(struct tt__PrefixedIPv4Address, 1); m[1].IPv4->Config->Manual->Address = at; m[1].IPv4->Config->Manual->PrefixLength = other[0] ? otherprefix : 24;
		out->__sizeNetworkInterfaces = 2; out->NetworkInterfaces = m;
	}
	return SOAP_OK;
}

static void *move(void *how) {
	usleep(how ? 3000000 : 300000);
	pthread_mutex_lock(&lock);
	if (s.next[0]) {
		run("ip addr flush dev %s scope global", nic);
		run("ip addr add %s/%d dev %s", s.next, s.nextprefix, nic);
		snprintf(s.address, sizeof s.address, "%s", s.next); s.prefix = s.nextprefix; s.next[0] = 0; s.dhcp = 0;
		if (is("forgets gateway")) s.gateway[0] = 0;
	}
	instance++;
	pthread_mutex_unlock(&lock);
	return NULL;
}
/* The second port is eth1. */
static void *move_other(void *none) {
	(void)none;
	usleep(300000);
	run("ip addr flush dev eth1 scope global");
	run("ip addr add %s/%d dev eth1", other, otherprefix);
	snprintf(s.address, sizeof s.address, "%s", other);
	return NULL;
}
static void later(int restart) { pthread_t t; pthread_create(&t, NULL, move, restart ? "restart" : NULL); pthread_detach(t); }

int __tds__SetNetworkInterfaces(struct soap *soap, struct _tds__SetNetworkInterfaces *in, struct _tds__SetNetworkInterfacesResponse *out) {
	MUST(1); note("write", "address");
	struct tt__IPv4NetworkInterfaceSetConfiguration *v = in->NetworkInterface->IPv4;
	if (has("second port") && !strcmp(in->InterfaceToken, "port-2") && v && v->__sizeManual == 1) {
		snprintf(other, sizeof other, "%s", v->Manual->Address); otherprefix = v->Manual->PrefixLength;
		out->RebootNeeded = 0;
		pthread_t t; pthread_create(&t, NULL, move_other, NULL); pthread_detach(t);
		return SOAP_OK;
	}
	if (strcmp(in->InterfaceToken, "port-1") || !v || v->__sizeManual != 1)
		return soap_sender_fault_subcode(soap, "\"http://www.onvif.org/ver10/error\":InvalidArgVal", "no such interface", NULL);
	if (is("gateway first") && strncmp(s.gateway, v->Manual->Address, 6))
		return soap_sender_fault_subcode(soap, "\"http://www.onvif.org/ver10/error\":InvalidArgVal", "the gateway is elsewhere", NULL);
	snprintf(s.next, sizeof s.next, "%s", v->Manual->Address); s.nextprefix = v->Manual->PrefixLength;
	out->RebootNeeded = is("restarts");
	if (!is("restarts") && !is("silent restart")) later(0);
	return SOAP_OK;
}

int __tds__GetNetworkDefaultGateway(struct soap *soap, struct _tds__GetNetworkDefaultGateway *in, struct _tds__GetNetworkDefaultGatewayResponse *out) {
	(void)in; MUST(0);
	out->NetworkGateway = NEW(struct tt__NetworkGateway, 1);
	if (s.gateway[0]) { out->NetworkGateway->__sizeIPv4Address = 1; out->NetworkGateway->IPv4Address = NEW(char *, 1); *out->NetworkGateway->IPv4Address = s.gateway; }
	return SOAP_OK;
}

int __tds__SetNetworkDefaultGateway(struct soap *soap, struct _tds__SetNetworkDefaultGateway *in, struct _tds__SetNetworkDefaultGatewayResponse *out) {
	(void)out; MUST(1); note("write", "gateway");
	if (is("gateway inside") && (in->__sizeIPv4Address < 1 || strncmp(s.address, *in->IPv4Address, 6)))
		return soap_sender_fault_subcode(soap, "\"http://www.onvif.org/ver10/error\":InvalidArgVal", "outside the subnet", NULL);
	snprintf(s.gateway, sizeof s.gateway, "%s", in->__sizeIPv4Address ? *in->IPv4Address : "");
	return SOAP_OK;
}

int __tds__GetDNS(struct soap *soap, struct _tds__GetDNS *in, struct _tds__GetDNSResponse *out) {
	(void)in; MUST(0);
	struct tt__DNSInformation *d = out->DNSInformation = NEW(struct tt__DNSInformation, 1);
	d->FromDHCP = s.dnsauto; d->__sizeDNSManual = s.ndns; d->DNSManual = NEW(struct tt__IPAddress, MAX);
	for (int i = 0; i < s.ndns; i++) d->DNSManual[i].IPv4Address = s.dns[i];
	return SOAP_OK;
}

int __tds__SetDNS(struct soap *soap, struct _tds__SetDNS *in, struct _tds__SetDNSResponse *out) {
	(void)out; MUST(1); note("write", "dns");
	s.dnsauto = in->FromDHCP; s.ndns = 0;
	for (int i = 0; i < in->__sizeDNSManual && i < MAX; i++) snprintf(s.dns[s.ndns++], 64, "%s", in->DNSManual[i].IPv4Address);
	return SOAP_OK;
}

int __tds__GetNTP(struct soap *soap, struct _tds__GetNTP *in, struct _tds__GetNTPResponse *out) {
	(void)in; MUST(0);
	struct tt__NTPInformation *d = out->NTPInformation = NEW(struct tt__NTPInformation, 1);
	d->__sizeNTPManual = s.nntp; d->NTPManual = NEW(struct tt__NetworkHost, MAX);
	for (int i = 0; i < s.nntp; i++) d->NTPManual[i].IPv4Address = s.ntp[i];
	return SOAP_OK;
}

int __tds__SetNTP(struct soap *soap, struct _tds__SetNTP *in, struct _tds__SetNTPResponse *out) {
	(void)out; MUST(1); note("write", "ntp");
	s.nntp = 0;
	for (int i = 0; i < in->__sizeNTPManual && i < MAX; i++) snprintf(s.ntp[s.nntp++], 64, "%s", in->NTPManual[i].IPv4Address);
	return SOAP_OK;
}

int __tds__SystemReboot(struct soap *soap, struct _tds__SystemReboot *in, struct _tds__SystemRebootResponse *out) { (void)in; MUST(1); note("write", "restart"); out->Message = "restarting"; later(1); return SOAP_OK; }

#include "recorder.c"

/* Discovery. */
static const char *endpoint(void) { static char e[64]; unsigned a[6]; sscanf(mac, "%x:%x:%x:%x:%x:%x", a, a + 1, a + 2, a + 3, a + 4, a + 5); snprintf(e, sizeof e, "urn:uuid:11112222-3333-4444-8555-%02x%02x%02x%02x%02x%02x", a[0], a[1], a[2], a[3], a[4], a[5]); return e; }
static const char *types = "\"http://www.onvif.org/ver10/network/wsdl\":NetworkVideoTransmitter";
static const char *where(struct soap *soap) { char *x = NEW(char, 128); snprintf(x, 128, "http://%s/onvif/device_service", s.address); return x; }
static const char *about(struct soap *soap) { char *x = NEW(char, 400); snprintf(x, 400, "onvif://www.onvif.org/type/video_encoder onvif://www.onvif.org/hardware/Gate_Eye %s", s.name); return x; }
/* Answers go out from a port of their own, as they may. */
#define ANONYMOUS "http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous"
static struct soap *answering(struct soap *soap, char *to, size_t n) {
	char host[64], port[16];
	getnameinfo((struct sockaddr *)&soap->peer, soap->peerlen, host, sizeof host, port, sizeof port, NI_DGRAM | NI_NUMERICHOST | NI_NUMERICSERV);
	snprintf(to, n, "soap.udp://%s:%s", host, port);
	struct soap *out = soap_new1(SOAP_IO_UDP);
	soap_set_namespaces(out, namespaces);
	return out;
}
static void answered(struct soap *out) { soap_destroy(out); soap_end(out); soap_free(out); }
soap_wsdd_mode wsdd_event_Probe(struct soap *soap, const char *id, const char *reply, const char *asked, const char *scopes, const char *by, struct wsdd__ProbeMatchesType *m) {
	(void)reply; (void)scopes; (void)by;
	if (asked && *asked && !strstr(asked, "NetworkVideoTransmitter")) return SOAP_WSDD_ADHOC;
	char to[128];
	struct soap *out = answering(soap, to, sizeof to);
	soap_wsdd_init_ProbeMatches(out, m);
	soap_wsdd_add_ProbeMatch(out, m, endpoint(), types, about(out), NULL, where(out), 1);
	soap_wsdd_ProbeMatches(out, to, soap_wsa_rand_uuid(out), id, ANONYMOUS, m);
	answered(out);
	return SOAP_WSDD_ADHOC;
}
soap_wsdd_mode wsdd_event_Resolve(struct soap *soap, const char *id, const char *reply, const char *e, struct wsdd__ResolveMatchType *m) {
	(void)reply;
	if (!e || strcmp(e, endpoint())) return SOAP_WSDD_ADHOC;
	char to[128];
	struct soap *out = answering(soap, to, sizeof to);
	(void)m;
	soap_wsdd_ResolveMatches(out, to, soap_wsa_rand_uuid(out), id, ANONYMOUS, endpoint(), types, about(out), NULL, where(out), 1);
	answered(out);
	return SOAP_WSDD_ADHOC;
}
void wsdd_event_Hello(struct soap *a, unsigned b, const char *c, unsigned d, const char *e, const char *f, const char *g, const char *h, const char *i, const char *j, const char *k, unsigned l) { (void)a; (void)b; (void)c; (void)d; (void)e; (void)f; (void)g; (void)h; (void)i; (void)j; (void)k; (void)l; }
void wsdd_event_Bye(struct soap *a, unsigned b, const char *c, unsigned d, const char *e, const char *f, const char *g, const char *h, const char *i, const char *j, const char *k, unsigned *l) { (void)a; (void)b; (void)c; (void)d; (void)e; (void)f; (void)g; (void)h; (void)i; (void)j; (void)k; (void)l; }
void wsdd_event_ProbeMatches(struct soap *a, unsigned b, const char *c, unsigned d, const char *e, const char *f, struct wsdd__ProbeMatchesType *g) { (void)a; (void)b; (void)c; (void)d; (void)e; (void)f; (void)g; }
void wsdd_event_ResolveMatches(struct soap *a, unsigned b, const char *c, unsigned d, const char *e, const char *f, struct wsdd__ResolveMatchType *g) { (void)a; (void)b; (void)c; (void)d; (void)e; (void)f; (void)g; }
int SOAP_ENV__Fault(struct soap *soap, char *a, char *b, char *c, struct SOAP_ENV__Detail *d, struct SOAP_ENV__Code *e, struct SOAP_ENV__Reason *f, char *g, char *h, struct SOAP_ENV__Detail *i) { (void)soap; (void)a; (void)b; (void)c; (void)d; (void)e; (void)f; (void)g; (void)h; (void)i; return SOAP_OK; }

static void *discovery(void *none) {
	(void)none;
	struct soap *soap = soap_new1(SOAP_IO_UDP);
	soap->bind_flags = SO_REUSEADDR;
	soap_set_namespaces(soap, namespaces);
	if (!soap_valid_socket(soap_bind(soap, NULL, 3702, 100))) { soap_print_fault(soap, stderr); exit(1); }
	struct ip_mreqn join = {0};
	inet_aton("239.255.255.250", &join.imr_multiaddr);
	join.imr_ifindex = if_nametoindex(nic);
	if (setsockopt(soap->master, IPPROTO_IP, IP_ADD_MEMBERSHIP, &join, sizeof join)) perror("join");
	for (;;) { if (soap_wsdd_listen(soap, -200000)) soap_print_fault(soap, stderr); soap_destroy(soap); soap_end(soap); }
}

static void *serve(void *it) {
	struct soap *soap = it;
	soap_serve(soap);
	soap_destroy(soap); soap_end(soap); soap_free(soap);
	return NULL;
}

int main(int argc, char **argv) {
	if (argc < 4) return 2;
	signal(SIGPIPE, SIG_IGN);
	nic = argv[1]; mac = argv[2]; serial = argv[3]; manners = argv + 4; nmanners = argc - 4;
	snprintf(s.address, sizeof s.address, "192.168.77.20"); s.prefix = 24; s.summer = 1; s.offset = -7 * 60;
	snprintf(s.zone, sizeof s.zone, "NZST-12NZDT,M9.5.0,M4.1.0/3");
	snprintf(s.name, sizeof s.name, "onvif://www.onvif.org/name/GateEye");
	run("ip addr add %s/%d dev %s", s.address, s.prefix, nic);
	if (is("recorder")) lay();
	pthread_t t; pthread_create(&t, NULL, discovery, NULL);
	struct soap *soap = soap_new1(SOAP_IO_KEEPALIVE | SOAP_XML_STRICT | (is("chunks") ? SOAP_IO_CHUNK : 0));
	soap->bind_flags = SO_REUSEADDR; soap->recv_timeout = 5; soap->max_keep_alive = is("few") ? 2 : 50;
	soap_set_namespaces(soap, namespaces);
	soap_register_plugin(soap, soap_wsse);
	soap_register_plugin_arg(soap, http_da, is("sha256") ? http_da_sha256() : is("session") ? http_da_md5_sess() : http_da_md5());
	if (!soap_valid_socket(soap_bind(soap, NULL, 80, 100))) { soap_print_fault(soap, stderr); return 1; }
	note("ready", serial);
	for (;;) {
		if (!soap_valid_socket(soap_accept(soap))) continue;
		struct soap *one = soap_copy(soap);
		if (pthread_create(&t, NULL, serve, one)) soap_free(one); else pthread_detach(t);
	}
}
