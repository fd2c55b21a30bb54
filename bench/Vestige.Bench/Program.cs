// Measurements, each beside its baseline in the same run.
//   dotnet run -c Release --project bench/Vestige.Bench -- backlog [CHANGES]   the whole way against one plain loop
//   ... -- lag [SECONDS]            delay per transaction at 500 transactions/s
//   ... -- memory [ROWS] [CHANGES]  peak memory of a load and one huge transaction
//   ... -- fleet [CROSSINGS]        server time of the Fleet page, cost of watching
//   ... -- large [TABLES]           server time of pages that list very many tables
//   ... -- history [TABLES]         disk and time that ten versions of each of many tables take
//   ... -- month [DAYS]             disk that measures take
//   ... -- treat [ROWS]             rows through a treatment on one core
//   ... -- trace [CHANGES]          a row found in a spool, against reading it through
//   ... -- rules [TABLES]           table rules over names
//   ... -- compare-memory [ROWS]    peak memory of comparing very many rows
//   ... -- pg-load [ROWS]           initial load against psql | psql
//   ... -- pg-tables [ROWS]         the same with 12 tables
//   ... -- pg-drain [CHANGES]       log to spool against pg_recvlogical
//   ... -- pg-catchup [CHANGES]     spool to target against the built-in subscription
//   ... -- pg-slot [CHANGES]        log to target with an empty spool, against the same
//   ... -- pg-visible [SECONDS]     commit to visible at 100 transactions/s, against the same
//   ... -- pg-cpu [TRANSACTIONS]    the source's CPU, against pg_recvlogical attached
//   ... -- pg-compare [ROWS]        comparing both sides, against plain digests by both servers at once
//   ... -- pg-walk [SECONDS]        pgbench on the source while comparing all the time
//   ... -- pg-reload [ROWS]         a table loaded again beside pgbench, against its first load alone
//   ... -- pg-carry [COLUMNS]       columns added at 500 transactions/s, against the same without
//   ... -- pg-engines [ROWS]        digests of a table in two unlike engines

using Vestige.Bench;

var size = args.Length > 1 ? int.Parse(args[1]) : 0;
switch (args.FirstOrDefault())
{
    case "backlog":
        await Backlog.RunAsync(size > 0 ? size : 1_000_000);
        return 0;
    case "lag":
        await SteadyLag.RunAsync(TimeSpan.FromSeconds(size > 0 ? size : 30));
        return 0;
    case "memory":
        await PeakMemory.RunAsync(size > 0 ? size : 2_000_000, args.Length > 2 ? int.Parse(args[2]) : 1_000_000);
        return 0;
    case "fleet":
        await FleetPage.RunAsync(size > 0 ? size : 1000);
        return 0;
    case "large":
        await LargeSchema.RunAsync(size > 0 ? size : 20_000);
        return 0;
    case "history":
        await LargeHistory.RunAsync(size > 0 ? size : 20_000);
        return 0;
    case "month":
        await MonthOfMeasures.RunAsync(size > 0 ? size : 30);
        return 0;
    case "treat":
        Treating.Run(size > 0 ? size : 1_000_000);
        return 0;
    case "trace":
        await Tracing.RunAsync(size > 0 ? size : 50_000_000);
        return 0;
    case "rules":
        Treating.RunRules(size > 0 ? size : 1_000_000);
        return 0;
    case "pg-load":
        await Vestige.Bench.PostgreSql.Load.OneTableAsync(size > 0 ? size : 2_000_000);
        return 0;
    case "pg-tables":
        await Vestige.Bench.PostgreSql.Load.TwelveTablesAsync(size > 0 ? size : 2_400_000);
        return 0;
    case "pg-compare":
        await Vestige.Bench.PostgreSql.Compare.RunAsync(size > 0 ? size : 5_000_000);
        return 0;
    case "pg-walk":
        await Vestige.Bench.PostgreSql.Walk.RunAsync(size > 0 ? size : 20);
        return 0;
    case "pg-reload":
        await Vestige.Bench.PostgreSql.Reload.RunAsync(size > 0 ? size : 2_000_000);
        return 0;
    case "pg-carry":
        await Vestige.Bench.PostgreSql.Carry.RunAsync(size > 0 ? size : 20);
        return 0;
    case "compare-memory":
        await ComparingMemory.RunAsync(size > 0 ? size : 50_000_000);
        return 0;
    case "pg-engines":
        await Vestige.Bench.PostgreSql.CrossEngine.RunAsync(size > 0 ? size : 2_000_000);
        return 0;
    case "pg-drain":
        await Vestige.Bench.PostgreSql.Drain.RunAsync(size > 0 ? size : 1_000_000);
        return 0;
    case "pg-catchup":
        await Vestige.Bench.PostgreSql.CatchUp.RunAsync(size > 0 ? size : 1_000_000);
        return 0;
    case "pg-slot":
        await Vestige.Bench.PostgreSql.CatchUp.FromSlotAsync(size > 0 ? size : 1_000_000);
        return 0;
    case "pg-visible":
        await Vestige.Bench.PostgreSql.Visible.RunAsync(size > 0 ? size : 20);
        return 0;
    case "pg-cpu":
        await Vestige.Bench.PostgreSql.SourceCpu.RunAsync(size > 0 ? size : 20_000);
        return 0;
    default:
        Console.Error.WriteLine(
            "Say which: backlog, lag, memory, fleet, large, history, month, treat, trace, rules, pg-load, pg-tables, pg-drain, pg-catchup, "
                + "pg-slot, pg-visible or pg-cpu."
        );
        return 2;
}
