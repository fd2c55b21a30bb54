using Vestige.Core.Reconciling;

namespace Vestige.Engine.Ports;

/// <summary>
/// Digests and hashes of a view's rows, computed inside the database: the same as <see cref="RowHash"/> with its standard function computes
/// them here of the rows in <see cref="RowForm"/>. One call at a time, with those to the view.
/// </summary>
public interface IRowDigests
{
    /// <summary>The form in which the database writes a row before it hashes it.</summary>
    IRowForm RowForm { get; }

    /// <summary>The digest of each segment of a span.</summary>
    Task<Digest[]> DigestAsync(RowShape shape, Segments segments, KeySpan within, CancellationToken cancellation);

    /// <summary>Keys and hashes of the rows of some segments, in no order.</summary>
    IAsyncEnumerable<HashedRow> HashesAsync(
        RowShape shape,
        Segments segments,
        IReadOnlyList<int> wanted,
        KeySpan within,
        CancellationToken cancellation
    );
}
