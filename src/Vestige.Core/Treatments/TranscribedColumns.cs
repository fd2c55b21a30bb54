using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>A source's columns as they are on a target of another engine if nothing else is said.</summary>
public static class TranscribedColumns
{
    internal static TreatedColumn Of(Column column, int ordinal, IEngineTypes source, IEngineTypes target)
    {
        var type = source.TypeOf(column);
        var meaning = ColumnMeaning.Of(type);
        if (type.Kind == LogicalKind.Any)
        {
            return new TreatedColumn(
                column.Name,
                target.Declare(LogicalType.Opaque),
                meaning,
                -1,
                [ordinal],
                column.KeyOrdinal,
                column.Nullable
            )
            {
                Of = ordinal,
                Make = ColumnReading.Of(new ExpressionColumn(column.Name, column.Type, meaning), ordinal),
                HasNoTypeThere = true,
            };
        }

        var transcriber = new ValueTranscriber(column.Name, type, source.Encoding, target.Encoding);
        return new TreatedColumn(
            column.Name,
            target.Declare(type),
            meaning,
            -1,
            [ordinal],
            column.KeyOrdinal,
            column.Nullable,
            Distinct: transcriber.KeepsApart
        )
        {
            Of = ordinal,
            Make = ColumnReading.Of(new ExpressionColumn(column.Name, column.Type, meaning), ordinal),
            Put = (row, writer) => transcriber.Write(row, ordinal, writer),
            Transcribed = type,
        };
    }

    /// <summary>
    /// How the columns of a key are written on the target, in key order, where a key there is that of one row of the source and the other
    /// way round; null where it is not.
    /// </summary>
    /// <param name="treatment">What happens to the rows.</param>
    /// <param name="key">The ordinals of the key's columns on the target.</param>
    /// <param name="source">The types of the source's engine.</param>
    /// <param name="target">The types of the target's.</param>
    public static IReadOnlyList<ValueTranscriber>? KeyOf(
        TableTreatment treatment,
        IReadOnlyList<int> key,
        IEngineTypes source,
        IEngineTypes target
    )
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(key);
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(target);
        if (
            !key.All(i => treatment.Columns[i].IsTranscribed)
            || !key.Select(i => treatment.Columns[i].Of).SequenceEqual(treatment.Source.KeyOrdinals)
        )
        {
            return null;
        }

        List<ValueTranscriber> made =
        [
            .. treatment
                .Source.KeyOrdinals.Select(ordinal => treatment.Source.Columns[ordinal])
                .Select(column => new ValueTranscriber(column.Name, source.TypeOf(column), source.Encoding, target.Encoding)),
        ];
        return made.TrueForAll(one => one.GoesBack) ? made : null;
    }
}
