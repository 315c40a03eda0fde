CREATE TABLE "sent_packet" (
	"outbound" integer NOT NULL,
	"packet" bigint NOT NULL,
	"first" timestamp with time zone NOT NULL,
	"last" timestamp with time zone NOT NULL,
	"tries" integer NOT NULL,
	"records" integer NOT NULL,
	"octets" integer NOT NULL,
	"state" text NOT NULL,
	"words" text NOT NULL,
	"messages" jsonb NOT NULL,
	CONSTRAINT "sent_packet_outbound_packet_pk" PRIMARY KEY("outbound","packet")
);
