using System.Globalization;
using System.Numerics;
using System.Runtime.CompilerServices;
using Npgsql;
using Vestige.Core.Reconciling;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>
/// Digests of a view's rows that the server computes: the hash of a row is md5 of the row as the server itself writes it, under the
/// settings
/// that all connections have.
/// </summary>
internal sealed class PostgreSqlDigests(PostgreSqlView view) : IRowDigests
{
    public IRowForm RowForm => TextForm.Instance;

    public Task<Digest[]> DigestAsync(RowShape shape, Segments segments, KeySpan within, CancellationToken cancellation) =>
        view.AskAsync($"Computing digests of {shape.Table.Name}", async () =>
        {
            var from = await view.OwnAsync(shape.Table.Name, cancellation);
            var key = segments.AreByHash ? $"md5(ROW({Columns(shape, shape.Key)})::text)" : Columns(shape, shape.Key);
            await using var command = new NpgsqlCommand(
                $"""
                SELECT {SegmentOf(
                    shape,
                    segments,
                    "k",
                    "m."
                )}, count(*), sum(('x' || left(h, 16))::bit(64)::bigint)::text, sum(('x' || right(h, 16))::bit(64)::bigint)::text
                FROM (SELECT {(segments.AreByHash ? $"{key} AS k" : key)}, md5(ROW({Columns(
                    shape,
                    shape.Columns
                )})::text) AS h FROM {from}{PostgreSqlView.Where(shape.Table, within)} OFFSET 0) m GROUP BY 1
                """,
                view.Connection
            )
            {
                CommandTimeout = 0,
            };
            Bind(command, segments);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            var digests = new Digest[segments.Count];
            while (await reader.ReadAsync(cancellation))
            {
                digests[reader.GetInt32(0)] = Digest.Of(
                    reader.GetInt64(1),
                    BigInteger.Parse(reader.GetString(2), CultureInfo.InvariantCulture),
                    BigInteger.Parse(reader.GetString(3), CultureInfo.InvariantCulture)
                );
            }

            return digests;
        });

    public async IAsyncEnumerable<HashedRow> HashesAsync(
        RowShape shape,
        Segments segments,
        IReadOnlyList<int> wanted,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var from = await view.AskAsync($"Looking at {shape.Table.Name}", () => view.OwnAsync(shape.Table.Name, cancellation));
        foreach (var span in segments.SpansOf(wanted, within))
        {
            var condition = segments.AreByHash
                ? $"{(PostgreSqlView.Where(shape.Table, span).Length == 0 ? " WHERE" : " AND")} "
                    + $"{SegmentOf(shape, segments, $"md5(ROW({Columns(shape, shape.Key)})::text)", "")} = ANY (string_to_array($1, "
                    + "',')::int4[])"
                : "";
            await using var command = new NpgsqlCommand(
                $"SELECT md5(ROW({Columns(shape, shape.Columns)})::text), {Columns(shape, shape.Key)} FROM "
                    + $"{from}{PostgreSqlView.Where(shape.Table, span)}{condition}",
                view.Connection
            )
            {
                AllResultTypesAreUnknown = true,
                CommandTimeout = 0,
            };
            if (segments.AreByHash)
            {
                command.Parameters.Add(
                    new NpgsqlParameter { Value = string.Join(',', wanted), NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Text }
                );
            }

            await using var reader = await view.AskAsync($"Reading hashes of {shape.Table.Name}", () =>
                command.ExecuteReaderAsync(cancellation)
            );
            while (await view.AskAsync($"Reading hashes of {shape.Table.Name}", () => reader.ReadAsync(cancellation)))
            {
                yield return new HashedRow(
                    PostgreSqlView.RowOf(reader, 1),
                    UInt128.Parse(reader.GetString(0), NumberStyles.HexNumber, CultureInfo.InvariantCulture)
                );
            }
        }
    }

    private static string Columns(RowShape shape, IEnumerable<int> ordinals) =>
        Quote.Names(ordinals.Select(i => shape.Table.Columns[i].Name));

    /// <summary>The segment of a row as a whole number from 0 on.</summary>
    private static string SegmentOf(RowShape shape, Segments segments, string keyHash, string prefix)
    {
        if (segments.AreByHash)
        {
            return $"(('x' || left({keyHash}, 4))::bit(16)::int4 >> {16 - segments.Bits})";
        }

        if (segments.Bounds.Count == 0)
        {
            return "0";
        }

        var names = shape.Key.Select(i => prefix + Quote.Name(shape.Table.Columns[i].Name)).ToList();
        return names.Count == 1
            ? $"width_bucket({names[0]}::int8, string_to_array($1, ',')::int8[])"
            : $"width_bucket(ROW({string.Join(", ", names.Select(name => $"{name}::int8"))}), (SELECT "
                + $"array_agg(ROW({string.Join(", ", names.Select((_, i) => $"(string_to_array(b, '/'))[{i + 1}]::int8"))}) ORDER BY o) "
                + "FROM unnest(string_to_array($1, ',')) WITH ORDINALITY AS u (b, o)))";
    }

    private static void Bind(NpgsqlCommand command, Segments segments)
    {
        if (segments.Bounds.Count > 0)
        {
            var bounds = segments.Bounds.Select(bound => string.Join('/', Enumerable.Range(0, bound.Count).Select(bound.DisplayAt)));
            command.Parameters.Add(new NpgsqlParameter { Value = string.Join(',', bounds), NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Text });
        }
    }
}
