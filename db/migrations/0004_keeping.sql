CREATE TABLE "history_hour" (
	"hour" timestamp with time zone PRIMARY KEY NOT NULL,
	"compacted" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "retention" (
	"kind" text PRIMARY KEY NOT NULL,
	"readings_days" integer NOT NULL,
	"statistics_days" integer NOT NULL
);
--> statement-breakpoint
CREATE TABLE "statistic_hour" (
	"point_id" integer NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"minimum" double precision NOT NULL,
	"maximum" double precision NOT NULL,
	"mean" double precision NOT NULL,
	"first" double precision NOT NULL,
	"last" double precision NOT NULL,
	"count" integer NOT NULL,
	"quality" integer NOT NULL,
	"last_quality" integer NOT NULL,
	"bad_ms" integer NOT NULL,
	CONSTRAINT "statistic_hour_point_id_time_pk" PRIMARY KEY("point_id","time")
);
--> statement-breakpoint
CREATE TABLE "statistic_minute" (
	"point_id" integer NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"minimum" double precision NOT NULL,
	"maximum" double precision NOT NULL,
	"mean" double precision NOT NULL,
	"first" double precision NOT NULL,
	"last" double precision NOT NULL,
	"count" integer NOT NULL,
	"quality" integer NOT NULL,
	"last_quality" integer NOT NULL,
	"bad_ms" integer NOT NULL,
	CONSTRAINT "statistic_minute_point_id_time_pk" PRIMARY KEY("point_id","time")
);
--> statement-breakpoint
CREATE INDEX "reading_time" ON "reading" USING brin ("time");
