using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Makes the column that a mask leaves of another.</summary>
internal sealed class MaskMaker(
    MaskedColumn mask,
    string field,
    TableSchema source,
    IReadOnlyList<TreatedColumn> columns,
    IEngineTypes types,
    IMaskKeys keys
)
{
    private const int LongestShift = 36_500;

    public List<TreatmentProblem> Problems { get; } = [];

    /// <summary>The masked column; null when there are problems.</summary>
    public TreatedColumn? Make(TreatedColumn column)
    {
        var made = Masked(column);
        return Problems.Count > 0 ? null : made;
    }

    private TreatedColumn? Masked(TreatedColumn column)
    {
        Unused(mask.Value is not null, "value", MaskMethod.Fixed);
        Unused(mask.Last is not null, "last", MaskMethod.KeepLast);
        Unused(mask.Days is not null, "days", MaskMethod.ShiftDate);
        Unused(mask.Along is not null, "along", MaskMethod.ShiftDate);
        Unused(mask.Kind is not null, "kind", MaskMethod.Pseudonym);
        var input = InputOf(column);
        switch (mask.By)
        {
            case MaskMethod.Null:
                return Made(column, column.Type, column.Meaning.Type, _ => Datum.Null, [], distinct: false) with { Nullable = true };
            case MaskMethod.Fixed:
                return Fixed(column);
            case MaskMethod.Hash:
                return WithDigits(column, Hashed(column, input, ExpressionType.Text, Masking.Hashed, distinct: true));
            case MaskMethod.KeepLast:
                return KeepLast(column, input);
            case MaskMethod.ShiftDate:
                return ShiftDate(column, input);
            default:
                return Pseudonym(column, input);
        }
    }

    private void Unused(bool isSet, string name, MaskMethod manner)
    {
        if (isSet && mask.By != manner)
        {
            Problems.Add(
                new TreatmentProblem(
                    $"{field}.{name}",
                    $"it belongs to another method than {Word(mask.By)}",
                    $"Remove it, or mask by {Word(manner)}."
                )
            );
        }
    }

    private static string Word(MaskMethod manner) => System.Text.Json.JsonNamingPolicy.CamelCase.ConvertName(manner.ToString());

    private static Evaluator InputOf(TreatedColumn column) =>
        column.Make ?? ColumnReading.Of(new ExpressionColumn(column.Name, column.Type, column.Meaning), column.Source);

    private TreatedColumn? Fixed(TreatedColumn column)
    {
        if (mask.Value is not { } text)
        {
            Problems.Add(new TreatmentProblem($"{field}.by", "there is no value to replace others with", "Enter value."));
            return null;
        }

        var value = ValueText.Read(column.Meaning.Type, text);
        if (value.IsNull)
        {
            Problems.Add(
                new TreatmentProblem(
                    $"{field}.value",
                    $"it is not {column.Meaning.Type.Word()}",
                    $"Give a value that the column's type {column.Type} takes."
                )
            );
            return null;
        }

        return Made(column, column.Type, column.Meaning.Type, _ => value, [], distinct: false);
    }

    private TreatedColumn? KeepLast(TreatedColumn column, Evaluator input)
    {
        if (mask.Last is not (>= 1 and <= 1000) || column.Meaning.Type != ExpressionType.Text)
        {
            Problems.Add(
                column.Meaning.Type != ExpressionType.Text
                    ? new TreatmentProblem(
                        $"{field}.by",
                        $"{column.Name} is {column.Meaning.Type.Word()}; stars fit into text only",
                        "Choose another method."
                    )
                    : new TreatmentProblem($"{field}.last", "it is not from 1 to 1000", "Say how many characters stay.")
            );
            return null;
        }

        var last = mask.Last.Value;
        return Made(
            column,
            column.Type,
            ExpressionType.Text,
            row => input(row) is { HasValue: true } value ? Datum.Of(Masking.KeepLast(value.Text, last)) : Datum.Null,
            column.Reads,
            distinct: false
        );
    }

    private TreatedColumn? ShiftDate(TreatedColumn column, Evaluator input)
    {
        if (
            column.Meaning.Type is not (ExpressionType.Date or ExpressionType.Timestamp or ExpressionType.Instant)
            || mask.Days is not (>= 1 and <= LongestShift)
        )
        {
            Problems.Add(
                mask.Days is >= 1 and <= LongestShift
                    ? new TreatmentProblem(
                        $"{field}.by",
                        $"{column.Name} is {column.Meaning.Type.Word()}; only dates and times can be shifted",
                        "Choose another method."
                    )
                    : new TreatmentProblem($"{field}.days", $"it is not from 1 to {LongestShift}", "Say by how many days at most.")
            );
            return null;
        }

        var along = AlongOf();
        if (along.Count == 0)
        {
            return null;
        }

        var (days, type, hash) = (mask.Days.Value, column.Meaning.Type, new KeyedHash(keys.Of(mask.KeyName)));
        Evaluator[] marks = [.. along.Select(InputOf)];
        ExpressionType[] markTypes = [.. along.Select(mark => mark.Meaning.Type)];
        return Made(
            column,
            column.Type,
            type,
            row => input(row) is { HasValue: true } value ? Masking.Shifted(type, value, ShiftOf(row)) : Datum.Null,
            [.. column.Reads.Concat(along.SelectMany(mark => mark.Reads)).Distinct()],
            distinct: false
        );

        int ShiftOf(Row row)
        {
            Span<byte> made = stackalloc byte[KeyedHash.Size];
            hash.Of(string.Join('\u001f', marks.Select((mark, i) => ValueText.Write(markTypes[i], mark(row)) ?? "")), made);
            return Masking.Shift(made, days);
        }
    }

    private List<TreatedColumn> AlongOf()
    {
        var along = mask.Along is { } name
            ? columns.Where(column => column.Name == name).ToList()
            : columns.Where(column => column.KeyOrdinal > 0).ToList();
        if (along.Count == 0)
        {
            Problems.Add(
                mask.Along is not null
                    ? new TreatmentProblem($"{field}.along", $"{source.Name} has no column {mask.Along}", "Name a column of it.")
                    : new TreatmentProblem($"{field}.by", $"{source.Name} has no key", "Say along which column dates are shifted alike.")
            );
        }

        return along;
    }

    private TreatedColumn Pseudonym(TreatedColumn column, Evaluator input)
    {
        var kind = mask.Kind ?? PseudonymKind.Code;
        var type = kind == PseudonymKind.Number ? ExpressionType.Integer : ExpressionType.Text;
        return Hashed(column, input, type, hash => Masking.Pseudonym(kind, hash), distinct: kind != PseudonymKind.Name);
    }

    /// <summary>Made of the keyed hash of the value's text. A text that passes is hashed where it lies.</summary>
    private TreatedColumn Hashed(TreatedColumn column, Evaluator input, ExpressionType made, FromHash work, bool distinct)
    {
        var hash = new KeyedHash(keys.Of(mask.KeyName));
        var (type, ordinal) = (column.Meaning.Type, column.Meaning is { Type: ExpressionType.Text, Padded: false } ? column.Source : -1);
        return Made(column, types.TypeFor(made), made, Run, column.Reads, distinct);

        Datum Run(Row row)
        {
            Span<byte> into = stackalloc byte[KeyedHash.Size];
            if (ordinal >= 0 && row.KindAt(ordinal) == ValueKind.Text)
            {
                hash.Of(row.ValueAt(ordinal), into);
                return work(into);
            }

            var value = input(row);
            if (value.IsNull)
            {
                return Datum.Null;
            }

            hash.Of(ValueText.Write(type, value)!, into);
            return work(into);
        }
    }

    /// <summary>The digits of a text that passes are written where they belong.</summary>
    private TreatedColumn WithDigits(TreatedColumn column, TreatedColumn made)
    {
        if (!column.IsPassed || column.Meaning is not { Type: ExpressionType.Text, Padded: false })
        {
            return made;
        }

        var (hash, ordinal, make) = (new KeyedHash(keys.Of(mask.KeyName)), column.Source, made.Make!);
        return made with { Put = Put };

        void Put(Row row, RowWriter writer)
        {
            if (row.KindAt(ordinal) == ValueKind.Null)
            {
                writer.Null();
                return;
            }

            if (row.KindAt(ordinal) != ValueKind.Text)
            {
                writer.Text(make(row).Text);
                return;
            }

            Span<byte> into = stackalloc byte[KeyedHash.Size];
            hash.Of(row.ValueAt(ordinal), into);
            Span<byte> digits = stackalloc byte[2 * KeyedHash.Size];
            Convert.TryToHexStringLower(into, digits, out _);
            writer.Value(ValueKind.Text, digits);
        }
    }

    private delegate Datum FromHash(ReadOnlySpan<byte> hash);

    private static TreatedColumn Made(
        TreatedColumn column,
        string type,
        ExpressionType meaning,
        Evaluator make,
        IReadOnlyList<int> reads,
        bool distinct
    ) =>
        column with
        {
            Type = type,
            Meaning = new ColumnMeaning(meaning),
            Source = -1,
            Reads = reads,
            Masked = true,
            Distinct = distinct && column.Distinct,
            Make = make,
            Put = null,
            Transcribed = null,
            HasNoTypeThere = false,
            ConvertedFrom = null,
        };
}
