// The standard device service as far as a device needs it to be set up, for gSOAP's
// soapcpp2: written from the names and the order of elements in the standard.
#import "soap12.h"
#import "wsse.h"
#import "wsdd10.h"

//gsoap tt schema namespace: http://www.onvif.org/ver10/schema
//gsoap tt schema form: qualified
//gsoap tds service name: Device
//gsoap tds service namespace: http://www.onvif.org/ver10/device/wsdl
//gsoap tds service style: document
//gsoap tds service encoding: literal
//gsoap tds schema namespace: http://www.onvif.org/ver10/device/wsdl
//gsoap tds schema form: qualified

enum xsd__boolean { xsd__boolean__false_, xsd__boolean__true_ };
enum tt__UserLevel { tt__UserLevel__Administrator, tt__UserLevel__Operator, tt__UserLevel__User, tt__UserLevel__Anonymous };
enum tt__SetDateTimeType { tt__SetDateTimeType__Manual, tt__SetDateTimeType__NTP };
enum tt__IPType { tt__IPType__IPv4, tt__IPType__IPv6 };
enum tt__ScopeDefinition { tt__ScopeDefinition__Fixed, tt__ScopeDefinition__Configurable };

struct tt__Time { int Hour 1:1; int Minute 1:1; int Second 1:1; };
struct tt__Date { int Year 1:1; int Month 1:1; int Day 1:1; };
struct tt__DateTime { struct tt__Time *Time 1:1; struct tt__Date *Date 1:1; };
struct tt__TimeZone { char *TZ 1:1; };
struct tt__SystemDateTime {
	enum tt__SetDateTimeType DateTimeType 1:1; enum xsd__boolean DaylightSavings 1:1; struct tt__TimeZone *TimeZone; struct tt__DateTime *UTCDateTime;
};
struct tt__User { char *Username 1:1; char *Password; enum tt__UserLevel UserLevel 1:1; };
struct tt__PrefixedIPv4Address { char *Address 1:1; int PrefixLength 1:1; };
struct tt__IPv4Configuration {
	int __sizeManual; struct tt__PrefixedIPv4Address *Manual 0; struct tt__PrefixedIPv4Address *LinkLocal; struct tt__PrefixedIPv4Address *FromDHCP; enum xsd__boolean DHCP 1:1;
};
struct tt__IPv4NetworkInterface { enum xsd__boolean Enabled 1:1; struct tt__IPv4Configuration *Config 1:1; };
struct tt__NetworkInterfaceInfo { char *Name; char *HwAddress 1:1; int *MTU; };
struct tt__NetworkInterface { @char *token 1:1; enum xsd__boolean Enabled 1:1; struct tt__NetworkInterfaceInfo *Info; struct tt__IPv4NetworkInterface *IPv4; };
struct tt__IPv4NetworkInterfaceSetConfiguration { enum xsd__boolean *Enabled; int __sizeManual; struct tt__PrefixedIPv4Address *Manual 0; enum xsd__boolean *DHCP; };
struct tt__NetworkInterfaceSetConfiguration { enum xsd__boolean *Enabled; int *MTU; struct tt__IPv4NetworkInterfaceSetConfiguration *IPv4; };
struct tt__NetworkGateway { int __sizeIPv4Address; char **IPv4Address 0; int __sizeIPv6Address; char **IPv6Address 0; };
struct tt__IPAddress { enum tt__IPType Type 1:1; char *IPv4Address; char *IPv6Address; };
struct tt__DNSInformation { enum xsd__boolean FromDHCP 1:1; int __sizeSearchDomain; char **SearchDomain 0; int __sizeDNSFromDHCP; struct tt__IPAddress *DNSFromDHCP 0; int __sizeDNSManual; struct tt__IPAddress *DNSManual 0; };
struct tt__NetworkHost { enum tt__IPType Type 1:1; char *IPv4Address; };
struct tt__NTPInformation { enum xsd__boolean FromDHCP 1:1; int __sizeNTPFromDHCP; struct tt__NetworkHost *NTPFromDHCP 0; int __sizeNTPManual; struct tt__NetworkHost *NTPManual 0; };
struct tt__Scope { enum tt__ScopeDefinition ScopeDef 1:1; char *ScopeItem 1:1; };
struct tt__OnvifVersion { int Major 1:1; int Minor 1:1; };
struct tds__Service { char *Namespace 1:1; char *XAddr 1:1; struct tt__OnvifVersion *Version 1:1; };

struct _tds__GetSystemDateAndTime { char *dummy_; };
struct _tds__GetSystemDateAndTimeResponse { struct tt__SystemDateTime *SystemDateAndTime 1:1; };
int __tds__GetSystemDateAndTime(struct _tds__GetSystemDateAndTime *tds__GetSystemDateAndTime, struct _tds__GetSystemDateAndTimeResponse *tds__GetSystemDateAndTimeResponse);

struct _tds__SetSystemDateAndTime { enum tt__SetDateTimeType DateTimeType 1:1; enum xsd__boolean DaylightSavings 1:1; struct tt__TimeZone *TimeZone; struct tt__DateTime *UTCDateTime; };
struct _tds__SetSystemDateAndTimeResponse { char *dummy_; };
int __tds__SetSystemDateAndTime(struct _tds__SetSystemDateAndTime *tds__SetSystemDateAndTime, struct _tds__SetSystemDateAndTimeResponse *tds__SetSystemDateAndTimeResponse);

struct _tds__GetServices { enum xsd__boolean IncludeCapability 1:1; };
struct _tds__GetServicesResponse { int __sizeService; struct tds__Service *Service 1; };
int __tds__GetServices(struct _tds__GetServices *tds__GetServices, struct _tds__GetServicesResponse *tds__GetServicesResponse);

struct _tds__GetDeviceInformation { char *dummy_; };
struct _tds__GetDeviceInformationResponse { char *Manufacturer 1:1; char *Model 1:1; char *FirmwareVersion 1:1; char *SerialNumber 1:1; char *HardwareId 1:1; };
int __tds__GetDeviceInformation(struct _tds__GetDeviceInformation *tds__GetDeviceInformation, struct _tds__GetDeviceInformationResponse *tds__GetDeviceInformationResponse);

struct _tds__GetUsers { char *dummy_; };
struct _tds__GetUsersResponse { int __sizeUser; struct tt__User *User 0; };
int __tds__GetUsers(struct _tds__GetUsers *tds__GetUsers, struct _tds__GetUsersResponse *tds__GetUsersResponse);

struct _tds__CreateUsers { int __sizeUser; struct tt__User *User 1; };
struct _tds__CreateUsersResponse { char *dummy_; };
int __tds__CreateUsers(struct _tds__CreateUsers *tds__CreateUsers, struct _tds__CreateUsersResponse *tds__CreateUsersResponse);

struct _tds__SetUser { int __sizeUser; struct tt__User *User 1; };
struct _tds__SetUserResponse { char *dummy_; };
int __tds__SetUser(struct _tds__SetUser *tds__SetUser, struct _tds__SetUserResponse *tds__SetUserResponse);

struct _tds__GetScopes { char *dummy_; };
struct _tds__GetScopesResponse { int __sizeScopes; struct tt__Scope *Scopes 1; };
int __tds__GetScopes(struct _tds__GetScopes *tds__GetScopes, struct _tds__GetScopesResponse *tds__GetScopesResponse);

struct _tds__SetScopes { int __sizeScopes; char **Scopes 1; };
struct _tds__SetScopesResponse { char *dummy_; };
int __tds__SetScopes(struct _tds__SetScopes *tds__SetScopes, struct _tds__SetScopesResponse *tds__SetScopesResponse);

struct _tds__GetNetworkInterfaces { char *dummy_; };
struct _tds__GetNetworkInterfacesResponse { int __sizeNetworkInterfaces; struct tt__NetworkInterface *NetworkInterfaces 1; };
int __tds__GetNetworkInterfaces(struct _tds__GetNetworkInterfaces *tds__GetNetworkInterfaces, struct _tds__GetNetworkInterfacesResponse *tds__GetNetworkInterfacesResponse);

struct _tds__SetNetworkInterfaces { char *InterfaceToken 1:1; struct tt__NetworkInterfaceSetConfiguration *NetworkInterface 1:1; };
struct _tds__SetNetworkInterfacesResponse { enum xsd__boolean RebootNeeded 1:1; };
int __tds__SetNetworkInterfaces(struct _tds__SetNetworkInterfaces *tds__SetNetworkInterfaces, struct _tds__SetNetworkInterfacesResponse *tds__SetNetworkInterfacesResponse);

struct _tds__GetNetworkDefaultGateway { char *dummy_; };
struct _tds__GetNetworkDefaultGatewayResponse { struct tt__NetworkGateway *NetworkGateway 1:1; };
int __tds__GetNetworkDefaultGateway(struct _tds__GetNetworkDefaultGateway *tds__GetNetworkDefaultGateway, struct _tds__GetNetworkDefaultGatewayResponse *tds__GetNetworkDefaultGatewayResponse);

struct _tds__SetNetworkDefaultGateway { int __sizeIPv4Address; char **IPv4Address 0; int __sizeIPv6Address; char **IPv6Address 0; };
struct _tds__SetNetworkDefaultGatewayResponse { char *dummy_; };
int __tds__SetNetworkDefaultGateway(struct _tds__SetNetworkDefaultGateway *tds__SetNetworkDefaultGateway, struct _tds__SetNetworkDefaultGatewayResponse *tds__SetNetworkDefaultGatewayResponse);

struct _tds__GetDNS { char *dummy_; };
struct _tds__GetDNSResponse { struct tt__DNSInformation *DNSInformation 1:1; };
int __tds__GetDNS(struct _tds__GetDNS *tds__GetDNS, struct _tds__GetDNSResponse *tds__GetDNSResponse);

struct _tds__SetDNS { enum xsd__boolean FromDHCP 1:1; int __sizeSearchDomain; char **SearchDomain 0; int __sizeDNSManual; struct tt__IPAddress *DNSManual 0; };
struct _tds__SetDNSResponse { char *dummy_; };
int __tds__SetDNS(struct _tds__SetDNS *tds__SetDNS, struct _tds__SetDNSResponse *tds__SetDNSResponse);

struct _tds__GetNTP { char *dummy_; };
struct _tds__GetNTPResponse { struct tt__NTPInformation *NTPInformation 1:1; };
int __tds__GetNTP(struct _tds__GetNTP *tds__GetNTP, struct _tds__GetNTPResponse *tds__GetNTPResponse);

struct _tds__SetNTP { enum xsd__boolean FromDHCP 1:1; int __sizeNTPManual; struct tt__NetworkHost *NTPManual 0; };
struct _tds__SetNTPResponse { char *dummy_; };
int __tds__SetNTP(struct _tds__SetNTP *tds__SetNTP, struct _tds__SetNTPResponse *tds__SetNTPResponse);

struct _tds__SystemReboot { char *dummy_; };
struct _tds__SystemRebootResponse { char *Message 1:1; };
int __tds__SystemReboot(struct _tds__SystemReboot *tds__SystemReboot, struct _tds__SystemRebootResponse *tds__SystemRebootResponse);

// The receiver and the recording control service, as far as a recorder needs them to be joined
// to cameras.
//gsoap trc service name: Recording
//gsoap trc service namespace: http://www.onvif.org/ver10/recording/wsdl
//gsoap trc service style: document
//gsoap trc service encoding: literal
//gsoap trc schema namespace: http://www.onvif.org/ver10/recording/wsdl
//gsoap trc schema form: qualified
//gsoap trv service name: Receiver
//gsoap trv service namespace: http://www.onvif.org/ver10/receiver/wsdl
//gsoap trv service style: document
//gsoap trv service encoding: literal
//gsoap trv schema namespace: http://www.onvif.org/ver10/receiver/wsdl
//gsoap trv schema form: qualified

enum tt__ReceiverMode { tt__ReceiverMode__AutoConnect, tt__ReceiverMode__AlwaysConnect, tt__ReceiverMode__NeverConnect };
enum tt__ReceiverState { tt__ReceiverState__NotConnected, tt__ReceiverState__Connecting, tt__ReceiverState__Connected, tt__ReceiverState__Unknown };
enum tt__StreamType { tt__StreamType__RTP_Unicast, tt__StreamType__RTP_Multicast };
enum tt__TransportProtocol { tt__TransportProtocol__UDP, tt__TransportProtocol__TCP, tt__TransportProtocol__RTSP, tt__TransportProtocol__HTTP };
enum tt__TrackType { tt__TrackType__Video, tt__TrackType__Audio, tt__TrackType__Metadata };

struct tt__Transport { enum tt__TransportProtocol Protocol 1:1; };
struct tt__StreamSetup { enum tt__StreamType Stream 1:1; struct tt__Transport *Transport 1:1; };
struct tt__ReceiverConfiguration { enum tt__ReceiverMode Mode 1:1; char *MediaUri 1:1; struct tt__StreamSetup *StreamSetup 1:1; };
struct tt__Receiver { char *Token 1:1; struct tt__ReceiverConfiguration *Configuration 1:1; };
struct tt__ReceiverStateInformation { enum tt__ReceiverState State 1:1; enum xsd__boolean AutoCreated 1:1; };
struct tt__RecordingSourceInformation { char *SourceId 1:1; char *Name 1:1; char *Location 1:1; char *Description 1:1; char *Address 1:1; };
struct tt__RecordingConfiguration { struct tt__RecordingSourceInformation *Source 1:1; char *Content 1:1; char *MaximumRetentionTime 1:1; };
struct tt__TrackConfiguration { enum tt__TrackType TrackType 1:1; char *Description 1:1; };
struct tt__GetTracksResponseItem { char *TrackToken 1:1; struct tt__TrackConfiguration *Configuration 1:1; };
struct tt__GetTracksResponseList { int __sizeTrack; struct tt__GetTracksResponseItem *Track 0; };
struct tt__GetRecordingsResponseItem { char *RecordingToken 1:1; struct tt__RecordingConfiguration *Configuration 1:1; struct tt__GetTracksResponseList *Tracks 1:1; };
struct tt__SourceReference { char *Token 1:1; @char *Type; };
struct tt__RecordingJobTrack { char *SourceTag 1:1; char *Destination 1:1; };
struct tt__RecordingJobSource { struct tt__SourceReference *SourceToken; enum xsd__boolean *AutoCreateReceiver; int __sizeTracks; struct tt__RecordingJobTrack *Tracks 0; };
struct tt__RecordingJobConfiguration { char *RecordingToken 1:1; char *Mode 1:1; int Priority 1:1; int __sizeSource; struct tt__RecordingJobSource *Source 0; };
struct tt__GetRecordingJobsResponseItem { char *JobToken 1:1; struct tt__RecordingJobConfiguration *JobConfiguration 1:1; };
struct tt__RecordingJobStateTrack { char *SourceTag 1:1; char *Destination 1:1; char *Error; char *State 1:1; };
struct tt__RecordingJobStateTracks { int __sizeTrack; struct tt__RecordingJobStateTrack *Track 0; };
struct tt__RecordingJobStateSource { struct tt__SourceReference *SourceToken 1:1; char *State 1:1; struct tt__RecordingJobStateTracks *Tracks 1:1; };
struct tt__RecordingJobStateInformation { char *RecordingToken 1:1; char *State 1:1; int __sizeSources; struct tt__RecordingJobStateSource *Sources 0; };
struct trc__Capabilities { @enum xsd__boolean *DynamicRecordings; @int *MaxRecordings; @int *MaxRecordingJobs; };
struct trv__Capabilities { @enum xsd__boolean *RTP_USCORERTSP_USCORETCP; @int SupportedReceivers 1; };

struct _trc__GetServiceCapabilities { char *dummy_; };
struct _trc__GetServiceCapabilitiesResponse { struct trc__Capabilities *Capabilities 1:1; };
int __trc__GetServiceCapabilities(struct _trc__GetServiceCapabilities *trc__GetServiceCapabilities, struct _trc__GetServiceCapabilitiesResponse *trc__GetServiceCapabilitiesResponse);

struct _trc__GetRecordings { char *dummy_; };
struct _trc__GetRecordingsResponse { int __sizeRecordingItem; struct tt__GetRecordingsResponseItem *RecordingItem 0; };
int __trc__GetRecordings(struct _trc__GetRecordings *trc__GetRecordings, struct _trc__GetRecordingsResponse *trc__GetRecordingsResponse);

struct _trc__CreateRecording { struct tt__RecordingConfiguration *RecordingConfiguration 1:1; };
struct _trc__CreateRecordingResponse { char *RecordingToken 1:1; };
int __trc__CreateRecording(struct _trc__CreateRecording *trc__CreateRecording, struct _trc__CreateRecordingResponse *trc__CreateRecordingResponse);

struct _trc__SetRecordingConfiguration { char *RecordingToken 1:1; struct tt__RecordingConfiguration *RecordingConfiguration 1:1; };
struct _trc__SetRecordingConfigurationResponse { char *dummy_; };
int __trc__SetRecordingConfiguration(struct _trc__SetRecordingConfiguration *trc__SetRecordingConfiguration, struct _trc__SetRecordingConfigurationResponse *trc__SetRecordingConfigurationResponse);

struct _trc__GetRecordingJobs { char *dummy_; };
struct _trc__GetRecordingJobsResponse { int __sizeJobItem; struct tt__GetRecordingJobsResponseItem *JobItem 0; };
int __trc__GetRecordingJobs(struct _trc__GetRecordingJobs *trc__GetRecordingJobs, struct _trc__GetRecordingJobsResponse *trc__GetRecordingJobsResponse);

struct _trc__CreateRecordingJob { struct tt__RecordingJobConfiguration *JobConfiguration 1:1; };
struct _trc__CreateRecordingJobResponse { char *JobToken 1:1; struct tt__RecordingJobConfiguration *JobConfiguration 1:1; };
int __trc__CreateRecordingJob(struct _trc__CreateRecordingJob *trc__CreateRecordingJob, struct _trc__CreateRecordingJobResponse *trc__CreateRecordingJobResponse);

struct _trc__SetRecordingJobConfiguration { char *JobToken 1:1; struct tt__RecordingJobConfiguration *JobConfiguration 1:1; };
struct _trc__SetRecordingJobConfigurationResponse { struct tt__RecordingJobConfiguration *JobConfiguration 1:1; };
int __trc__SetRecordingJobConfiguration(struct _trc__SetRecordingJobConfiguration *trc__SetRecordingJobConfiguration, struct _trc__SetRecordingJobConfigurationResponse *trc__SetRecordingJobConfigurationResponse);

struct _trc__SetRecordingJobMode { char *JobToken 1:1; char *Mode 1:1; };
struct _trc__SetRecordingJobModeResponse { char *dummy_; };
int __trc__SetRecordingJobMode(struct _trc__SetRecordingJobMode *trc__SetRecordingJobMode, struct _trc__SetRecordingJobModeResponse *trc__SetRecordingJobModeResponse);

struct _trc__GetRecordingJobState { char *JobToken 1:1; };
struct _trc__GetRecordingJobStateResponse { struct tt__RecordingJobStateInformation *State 1:1; };
int __trc__GetRecordingJobState(struct _trc__GetRecordingJobState *trc__GetRecordingJobState, struct _trc__GetRecordingJobStateResponse *trc__GetRecordingJobStateResponse);

struct _trv__GetServiceCapabilities { char *dummy_; };
struct _trv__GetServiceCapabilitiesResponse { struct trv__Capabilities *Capabilities 1:1; };
int __trv__GetServiceCapabilities(struct _trv__GetServiceCapabilities *trv__GetServiceCapabilities, struct _trv__GetServiceCapabilitiesResponse *trv__GetServiceCapabilitiesResponse);

struct _trv__GetReceivers { char *dummy_; };
struct _trv__GetReceiversResponse { int __sizeReceivers; struct tt__Receiver *Receivers 0; };
int __trv__GetReceivers(struct _trv__GetReceivers *trv__GetReceivers, struct _trv__GetReceiversResponse *trv__GetReceiversResponse);

struct _trv__GetReceiverState { char *ReceiverToken 1:1; };
struct _trv__GetReceiverStateResponse { struct tt__ReceiverStateInformation *ReceiverState 1:1; };
int __trv__GetReceiverState(struct _trv__GetReceiverState *trv__GetReceiverState, struct _trv__GetReceiverStateResponse *trv__GetReceiverStateResponse);

struct _trv__CreateReceiver { struct tt__ReceiverConfiguration *Configuration 1:1; };
struct _trv__CreateReceiverResponse { struct tt__Receiver *Receiver 1:1; };
int __trv__CreateReceiver(struct _trv__CreateReceiver *trv__CreateReceiver, struct _trv__CreateReceiverResponse *trv__CreateReceiverResponse);

struct _trv__ConfigureReceiver { char *ReceiverToken 1:1; struct tt__ReceiverConfiguration *Configuration 1:1; };
struct _trv__ConfigureReceiverResponse { char *dummy_; };
int __trv__ConfigureReceiver(struct _trv__ConfigureReceiver *trv__ConfigureReceiver, struct _trv__ConfigureReceiverResponse *trv__ConfigureReceiverResponse);

struct _trv__SetReceiverMode { char *ReceiverToken 1:1; enum tt__ReceiverMode Mode 1:1; };
struct _trv__SetReceiverModeResponse { char *dummy_; };
int __trv__SetReceiverMode(struct _trv__SetReceiverMode *trv__SetReceiverMode, struct _trv__SetReceiverModeResponse *trv__SetReceiverModeResponse);

struct _trv__DeleteReceiver { char *ReceiverToken 1:1; };
struct _trv__DeleteReceiverResponse { char *dummy_; };
int __trv__DeleteReceiver(struct _trv__DeleteReceiver *trv__DeleteReceiver, struct _trv__DeleteReceiverResponse *trv__DeleteReceiverResponse);
