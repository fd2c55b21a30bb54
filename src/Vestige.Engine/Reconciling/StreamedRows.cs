using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// Digests and hashes of a view's rows, computed in the database where it can, otherwise from the rows as they stream through; both
/// give the same.
/// </summary>
/// <param name="view">Where the rows are.</param>
/// <param name="table">How they are hashed.</param>
/// <param name="ofSource">Whether the rows are the source's.</param>
internal sealed class StreamedRows(IRowsView view, ComparedTable table, bool ofSource)
{
    private readonly IRowDigests? database =
        table.OwnForm is { } form && view.Digests is { } digests && digests.RowForm == form ? digests : null;

    private RowHash NewHash() => ofSource ? table.NewSourceHash() : table.NewRowHash();

    public async Task<Digest[]> DigestAsync(RowShape shape, Segments segments, KeySpan within, CancellationToken cancellation)
    {
        if (database is not null)
        {
            return await database.DigestAsync(shape, segments, within, cancellation);
        }

        var (digests, rows, keys) = (new Digest[segments.Count], NewHash(), NewHash());
        await foreach (var block in view.ReadAsync(shape.Table, within, cancellation))
        {
            foreach (var row in RowsOf(block))
            {
                var segment = segments.AreByHash ? segments.Of(default, keys.Of(row, shape.Key)) : segments.Of(row, shape.Key);
                digests[segment] = digests[segment].With(rows.Of(row, shape.Columns));
            }
        }

        return digests;
    }

    public IAsyncEnumerable<HashedRow> HashesAsync(
        RowShape shape,
        Segments segments,
        IReadOnlyList<int> wanted,
        KeySpan within,
        CancellationToken cancellation
    ) =>
        database is not null
            ? database.HashesAsync(shape, segments, wanted, within, cancellation)
            : StreamHashesAsync(shape, segments, wanted, within, cancellation);

    /// <summary>The rows of a span, one by one. A row's memory stays valid.</summary>
    public static async IAsyncEnumerable<Row> RowsAsync(
        IRowsView view,
        RowShape shape,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        await foreach (var block in view.ReadAsync(shape.Table, within, cancellation))
        {
            foreach (var row in RowsOf(block))
            {
                yield return row;
            }
        }
    }

    private async IAsyncEnumerable<HashedRow> StreamHashesAsync(
        RowShape shape,
        Segments segments,
        IReadOnlyList<int> wanted,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var (chosen, rows, keys) = (wanted.ToHashSet(), NewHash(), NewHash());
        foreach (var span in segments.SpansOf(wanted, within))
        {
            await foreach (var row in RowsAsync(view, shape, span, cancellation))
            {
                if (!segments.AreByHash || chosen.Contains(segments.Of(default, keys.Of(row, shape.Key))))
                {
                    yield return new HashedRow(shape.KeyOf(row), rows.Of(row, shape.Columns));
                }
            }
        }
    }

    private static IEnumerable<Row> RowsOf(RowBlock block)
    {
        var reader = new ChangeReader(block.Rows);
        while (reader.TryRead(out var change))
        {
            yield return change.After;
        }
    }
}
