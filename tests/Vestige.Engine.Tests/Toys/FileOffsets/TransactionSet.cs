using System.Collections.Immutable;
using System.Globalization;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>
/// Which transactions a server has: of each server that ever committed one, all up to a number. As text <c>s0:7,s1:3</c>.
/// </summary>
public sealed class TransactionSet
{
    private readonly ImmutableSortedDictionary<string, int> upTo;

    private TransactionSet(ImmutableSortedDictionary<string, int> upTo) => this.upTo = upTo;

    public static TransactionSet Parse(string text) =>
        new(
            text.Split(',', StringSplitOptions.RemoveEmptyEntries)
                .Select(part => part.Split(':'))
                .ToImmutableSortedDictionary(
                    part => part[0],
                    part => int.Parse(part[1], CultureInfo.InvariantCulture),
                    StringComparer.Ordinal
                )
        );

    /// <summary>The set with the next transaction of a server.</summary>
    public TransactionSet WithNextOf(string server) => new(upTo.SetItem(server, upTo.GetValueOrDefault(server) + 1));

    public override string ToString() => string.Join(',', upTo.Select(pair => $"{pair.Key}:{pair.Value}"));
}
