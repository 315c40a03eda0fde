CREATE TABLE "lease" (
	"id" smallint PRIMARY KEY NOT NULL,
	"run" text NOT NULL,
	"name" text NOT NULL,
	"since" timestamp with time zone NOT NULL,
	"until" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "standby" (
	"run" text PRIMARY KEY NOT NULL,
	"name" text NOT NULL,
	"seen" timestamp with time zone NOT NULL
);
