using Vestige.Core.Changes;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A row that a statement changed.</summary>
public sealed record BenchChangeDocument(string Table, [property: Choices(typeof(ChangeKind))] string Kind, string Key);
