using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Following;

/// <summary>What is to be done to a target's table before the next row of it is written.</summary>
/// <param name="Source">The source's table.</param>
/// <param name="Edit">What is done to the target's.</param>
internal sealed record CarriedEdit(TableName Source, SchemaEdit Edit);
