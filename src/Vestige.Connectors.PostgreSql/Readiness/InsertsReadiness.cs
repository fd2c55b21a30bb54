using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>What tables need of which the log gives inserts only.</summary>
internal static class InsertsReadiness
{
    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var identified = await Publication.IdentifiedAsync(connection, tables, cancellation);
        var whole = await Publication.TablesAsync(connection, names.Publication, cancellation);
        var inserts = await Publication.TablesAsync(connection, names.Inserts, cancellation);
        var checks = new List<ReadinessCheck>();
        if (whole is not null && inserts is null && identified.Values.Contains(false))
        {
            checks.Add(
                new ReadinessCheck(
                    "publication of inserts",
                    false,
                    $"the place in the log was made without the publication {names.Inserts}",
                    "one that was there when the place was made",
                    "Load the other crossings of this connection again, or make another connection to the database for this one.",
                    TimeSpan.Zero
                )
            );
        }

        var halved = identified
            .Where(pair => pair.Value && inserts?.Contains(pair.Key) == true && whole?.Contains(pair.Key) != true)
            .Select(pair => pair.Key)
            .Order()
            .ToList();
        if (halved.Count > 0)
        {
            checks.Add(
                new ReadinessCheck(
                    "publication of whole changes",
                    false,
                    $"{string.Join(", ", halved)}: only inserts are read so far, from the time before there was a replica identity",
                    "all changes",
                    string.Join(
                        "; ",
                        halved.Select(table => $"ALTER PUBLICATION {Quote.Name(names.Publication)} ADD TABLE ONLY {Quote.Name(table)}")
                    ),
                    TimeSpan.Zero
                )
            );
        }

        return checks;
    }
}
