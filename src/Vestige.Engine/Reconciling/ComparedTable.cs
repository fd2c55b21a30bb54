using System.Buffers;
using System.IO.Hashing;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>One table of the target as it is compared with what the treatment makes of the source's rows.</summary>
internal sealed class ComparedTable
{
    private readonly Func<IRowForm> rowForm;
    private readonly Func<IRowForm> keyForm;
    private readonly Func<IRowForm>? sourceForm;

    /// <summary>How a key of the source is written on the target; null where it is the same to the byte.</summary>
    private readonly IReadOnlyList<ValueTranscriber>? keyColumns;

    private ComparedTable(
        TreatedTable treated,
        RowShape target,
        Func<IRowForm> rowForm,
        Func<IRowForm> keyForm,
        Func<IRowForm>? sourceForm = null,
        IReadOnlyList<ValueTranscriber>? keyColumns = null
    )
    {
        (Treated, Target, this.rowForm, this.keyForm, this.sourceForm, this.keyColumns) = (
            treated,
            target,
            rowForm,
            keyForm,
            sourceForm,
            keyColumns
        );
    }

    public TreatedTable Treated { get; }

    public TableName Name => Treated.Schema.Name;

    /// <summary>How the target is read.</summary>
    public RowShape Target { get; }

    /// <summary>How the source is read so that the same is hashed there; null where rows are treated on the way.</summary>
    public RowShape? Source { get; private init; }

    /// <summary>How the source is read for digests; null where what the treatment makes of its rows has to be hashed.</summary>
    public RowShape? Digested { get; private init; }

    /// <summary>Whether a row has the same key on both sides.</summary>
    public bool KeyPasses { get; private init; }

    /// <summary>Whether ranges of the source's keys are ranges of the target's.</summary>
    public bool ByRange { get; private init; }

    /// <summary>The engine's own form, where rows are hashed in it, so that its database may do it; null where they are not.</summary>
    public IRowForm? OwnForm { get; private init; }

    /// <summary>What no database hashes is hashed by a quicker function than they have: XXH3 with 128 bits.</summary>
    private HashFunction? Function => OwnForm is not null ? null : static bytes => XxHash128.HashToUInt128(bytes);

    /// <summary>The columns that say how a row came, which the source's row itself does not tell.</summary>
    public IReadOnlyList<string> LeftOut =>
        [.. Treated.Schema.Columns.Where((_, i) => !Target.Columns.Contains(i)).Select(column => column.Name)];

    /// <summary>The columns whose values must not be shown.</summary>
    public IReadOnlyList<string> Masked { get; private init; } = [];

    /// <summary>The columns that differ in name only between both sides, or that the treatment makes of each row alone.</summary>
    /// <param name="treatment">What happens to the rows.</param>
    /// <param name="source">The types of the source's engine.</param>
    /// <param name="target">The types of the target's.</param>
    public static IReadOnlyList<ComparedTable> Of(TableTreatment treatment, IEngineTypes source, IEngineTypes target)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(target);
        return
        [
            .. treatment.WithChildren.SelectMany(part =>
                part.OwnTables.Select(table =>
                    treatment.CrossesEngines ? OfTwoEngines(part, table, source, target) : Of(part, table, source)
                )
            ),
        ];
    }

    /// <summary>Why the rows of the target are not those that the source has now; null when they are to be.</summary>
    public static string? Incomparable(TableTreatment treatment)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        return treatment.Mode switch
        {
            ApplyMode.InsertOnly => "only its inserts are applied, so that its rows stay as they came",
            ApplyMode.KeepDeleted => "rows that the source deleted stay on the target",
            ApplyMode.KeepVersions => "the target keeps every version of its rows",
            _ => null,
        };
    }

    /// <summary>Hashes rows of the target. Not safe for several threads.</summary>
    public RowHash NewRowHash() => new(rowForm(), Function);

    /// <summary>
    /// Hashes rows of the source so that what the target should have of them has the same hash. Only where <see cref="Digested"/>. Not safe
    /// for several threads.
    /// </summary>
    public RowHash NewSourceHash() => new((sourceForm ?? rowForm)(), Function);

    /// <summary>
    /// Hashes rows that hold the columns of a key only, as <see cref="NewRowHash"/> hashes these columns of a row. Not safe for several
    /// threads.
    /// </summary>
    public RowHash NewKeyHash() => new(keyForm(), Function);

    /// <summary>A key of the source as the target has it. Only where <see cref="KeyPasses"/>.</summary>
    public Row TargetKeyOf(Row key) => keyColumns is null ? key : Written(key, keyColumns);

    /// <summary>A key of the target as the source has it. Only where <see cref="KeyPasses"/>.</summary>
    public Row SourceKeyOf(Row key) => keyColumns is null ? key : Written(key, [.. keyColumns.Select(column => column.Back)]);

    /// <summary>The places of the columns in which two rows of the target differ.</summary>
    public IEnumerable<int> DifferingColumns(Row one, Row other)
    {
        var form = rowForm();
        return Target.Columns.Where(i => !WrittenBy(form, one, i).AsSpan().SequenceEqual(WrittenBy(form, other, i)));
    }

    private static byte[] WrittenBy(IRowForm form, Row row, int column)
    {
        var into = new ArrayBufferWriter<byte>();
        into.Write([(byte)(row.KindAt(column) == ValueKind.Absent ? 1 : 0)]);
        form.Write(row, [column], into);
        return into.WrittenSpan.ToArray();
    }

    private static Row Written(Row key, IReadOnlyList<ValueTranscriber> columns)
    {
        var writer = new RowWriter();
        writer.Begin(key.Count);
        for (var i = 0; i < key.Count; i++)
        {
            columns[i].Write(key, i, writer);
        }

        return writer.ToRow();
    }

    /// <summary>Rows of one engine are hashed in its own form, wherever that is done.</summary>
    private static ComparedTable Of(TableTreatment part, TreatedTable table, IEngineTypes types)
    {
        var target = ShapeOf(part, table, types);
        var form = types.Encoding.RowForm;
        var keyPasses =
            IsKeyed(table, target)
            && !part.IsOfChildren
            && part.Source.HasKey
            && target.Key.Select(i => part.Columns[i].Source).SequenceEqual(part.Source.KeyOrdinals)
            && target.Key.All(i => part.Columns[i].Type == part.Source.Columns[part.Columns[i].Source].Type);
        var direct =
            part is { PassesAll: true, IsOfChildren: false, KeepsTypes: true }
            && part.Tables.Count == 1
            && target.Columns.Count == part.Columns.Count
            && (keyPasses || !part.Source.HasKey);
        var bent = Enumerable.Range(0, part.Columns.Count).Where(i => IsWrittenAnew(part, part.Columns[i], types)).ToHashSet();
        var source = direct
            ? new RowShape(
                part.Source,
                [.. part.Columns.Select(column => column.Source)],
                [.. target.Key.Select(i => part.Columns[i].Source)]
            )
            : null;
        var columns = part.Columns.Select(column => TypeThere(column, types)).ToList();
        var bentKey = Enumerable.Range(0, target.Key.Count).Where(i => bent.Contains(target.Key[i])).ToHashSet();
        return new ComparedTable(
            table,
            target,
            bent.Count == 0 ? () => form : () => new MixedForm(form, new CanonicalForm(columns), bent),
            bent.Count == 0 ? () => form : () => new MixedForm(form, new CanonicalForm([.. target.Key.Select(i => columns[i])]), bentKey)
        )
        {
            Source = source,
            Digested = source,
            KeyPasses = keyPasses,
            ByRange = keyPasses && IntegerKeys.Has(part.Source, types.MeaningOf),
            OwnForm = bent.Count == 0 ? form : null,
            Masked = MaskedOf(part),
        };
    }

    /// <summary>
    /// Rows of two engines are hashed in one form of our own: what the treatment makes of the source's, and the target's. Where it makes
    /// nothing of them, a value has that form whichever side writes it.
    /// </summary>
    private static ComparedTable OfTwoEngines(TableTreatment part, TreatedTable table, IEngineTypes source, IEngineTypes intoTypes)
    {
        var target = ShapeOf(part, table, intoTypes);
        var columns = part.Columns.Select(column => column.ConvertedFrom is null ? TypeOf(column) : TypeThere(column, intoTypes)).ToList();
        var key = IsKeyed(table, target) && part.Source.HasKey ? TranscribedColumns.KeyOf(part, target.Key, source, intoTypes) : null;
        var isKept =
            part is { KeepsAllRows: true, Mode: ApplyMode.Upsert, IsCombined: false }
            && target.Columns.All(i => part.Columns[i].IsTranscribed);
        var here = part.Source.Columns.Select(source.TypeOf).ToList();
        return new ComparedTable(
            table,
            target,
            () => new CanonicalForm(columns),
            () => new CanonicalForm([.. target.Key.Select(i => columns[i])]),
            () => new CanonicalForm(here),
            key
        )
        {
            Digested = isKept
                ? new RowShape(
                    part.Source,
                    [.. target.Columns.Select(i => part.Columns[i].Of)],
                    [.. target.Key.Select(i => part.Columns[i].Of)]
                )
                : null,
            KeyPasses = key is not null,
            ByRange = key is not null && IntegerKeys.Has(part.Source, source.MeaningOf),
            Masked = MaskedOf(part),
        };
    }

    /// <summary>Without what the source's row does not tell: how it came, and values that the definition lets change on the way.</summary>
    private static RowShape ShapeOf(TableTreatment part, TreatedTable table, IEngineTypes types)
    {
        List<int> columns =
        [
            .. Enumerable
                .Range(0, part.Columns.Count)
                .Where(i => part.Columns[i].Mark == SystemColumn.None && !MayChange(part.Columns[i], types)),
        ];
        var key = table.Schema.KeyOrdinals.Where(columns.Contains).ToList();
        return new RowShape(table.Schema, columns, key.Count > 0 ? key : columns);
    }

    /// <summary>Without a key, the row itself is what it is found by.</summary>
    private static bool IsKeyed(TreatedTable table, RowShape shape) => table.Schema.KeyOrdinals.Any(shape.Columns.Contains);

    private static bool MayChange(TreatedColumn column, IEngineTypes types) =>
        column is { KeyOrdinal: 0, ConvertedFrom: { } from } && types.ChangeOf(from, column.Type).Outcome == TypeOutcome.MayChange;

    private static LogicalType TypeThere(TreatedColumn column, IEngineTypes types) =>
        types.TypeOf(new Column(column.Name, column.Type)) is { Kind: not LogicalKind.Any } type ? type : TypeOf(column);

    private static LogicalType TypeOf(TreatedColumn column) => column.Transcribed ?? LogicalType.Of(column.Meaning);

    /// <summary>
    /// Whether the target may write the same value otherwise than the treatment does: 1.5 in a column of two digits becomes 1.50.
    /// </summary>
    private static bool IsWrittenAnew(TableTreatment part, TreatedColumn column, IEngineTypes types)
    {
        if (column.Mark != SystemColumn.None || (column.IsPassed && column.ConvertedFrom is null))
        {
            return false;
        }

        var there = TypeThere(column, types);
        var isWhole =
            there.Kind == LogicalKind.Integer
            && (column.IsPassed ? types.MeaningOf(part.Source.Columns[column.Source]).Type : column.Meaning.Type) == ExpressionType.Integer;
        return !isWhole && !there.IsPlainText;
    }

    private static IReadOnlyList<string> MaskedOf(TableTreatment part) =>
        [.. part.Columns.Where(column => column.Masked).Select(column => column.Name)];
}
